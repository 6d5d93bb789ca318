import { useState } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useStepQuery } from '../../data/runs';
import { placeAddress, useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { LoadCounts, StepDetail, StepEntry } from '@ouvrage/api/run';
import { Sql } from '../../shared/diff';
import { count, duration, rows } from '../../shared/format';
import { FaultGrid } from '../../shared/fault-grid';
import { VerdictMark, VerdictWord } from '../../shared/marks';
import { OpenIncident } from '../../shared/open-incident';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';

/** What the load did, kind by kind; nothing done is said too. */
function Counts({ counts, note, kinds }: { counts: LoadCounts; note: string | null; kinds: StepDetail['kinds'] }) {
  const [open, setOpen] = useState<string>();
  const shown = open === undefined ? undefined : kinds?.[open];
  return (
    <section aria-label="What the load did">
      <SectionTitle>What the load did</SectionTitle>
      <dl className="mt-1 grid grid-cols-[repeat(auto-fill,minmax(240px,1fr))] gap-x-6">
        {Object.entries(counts).map(([kind, n]) => (
          <div key={kind} className="flex items-baseline justify-between gap-2 border-b border-line/60 py-1">
            <dt className="text-soft">
              {kinds?.[kind] ? (
                <button
                  type="button"
                  aria-expanded={open === kind}
                  onClick={() => setOpen(open === kind ? undefined : kind)}
                  className="text-left text-plan underline underline-offset-2"
                >
                  {kind}
                </button>
              ) : (
                kind
              )}
            </dt>
            <dd className={`font-mono text-small ${n ? '' : 'text-soft'}`}>{count(n)}</dd>
          </div>
        ))}
      </dl>
      {open !== undefined && shown && (
        <FaultGrid
          title={open}
          about={`the load: ${open}`}
          word="of"
          rows={shown}
          atFault={counts[open] ?? shown.rows.length}
        />
      )}
      {note !== null && <p className="mt-1 text-small text-soft">{note}</p>}
    </section>
  );
}

/** What one step did: the error with its place, checks with the rows at fault, and the SQL that ran. */
export function StepSheet({ run, step }: { run: number; step: StepEntry }) {
  const project = useProject();
  const { slug, tables, checks, textOf, isProduction } = project;
  /** What a check says; a check that the project no longer has is known by its name. */
  const titleOf = (id: string) => checks.find((c) => c.id === id)?.title ?? id.split('/').at(-1)!.replaceAll('_', ' ');
  const { data, error, isLoading } = useStepQuery({ run, step: step.id, state: step.state });
  if (isLoading) return <Loading what="Reading the step" />;
  if (error || !data) return <ProblemNote problem={error as ProblemBody} />;
  const broken = data.results.filter((r) => r.rows && r.rows.rows.length > 0);
  const place = step.error;
  return (
    <article className="flex flex-col gap-3.5 p-4">
      <header className="flex items-baseline gap-3">
        <h2 className="sheet-title">{step.table}</h2>
        {tables.has(step.table) && (
          <Link className="text-plan underline underline-offset-2" to={address.table(slug, step.table)}>
            open the bench
          </Link>
        )}
        {isProduction && step.state === 'failed' && tables.has(step.table) && broken.length === 0 && (
          <OpenIncident kind="load" subject={step.table} />
        )}
      </header>
      {place && (
        <div role="alert" className="border-l-3 border-broken bg-raised px-3 py-2">
          <p className="font-medium text-broken">{place.message}</p>
          {place.path && (
            <p className="font-mono text-small">
              <Link
                className="text-plan underline underline-offset-2"
                to={placeAddress(project, { ...place, path: place.path })}
              >
                {place.path}
              </Link>
              {place.line !== undefined && ` line ${place.line}, column ${place.column}`}
            </p>
          )}
          {place.path && place.line !== undefined && (
            <pre className="mt-1 overflow-x-auto font-mono text-small">
              {(textOf(place.path) ?? '').split('\n')[place.line - 1]}
            </pre>
          )}
          {place.detail && <p>{place.detail}</p>}
          {place.hint && <p className="text-soft">{place.hint}</p>}
        </div>
      )}
      {place?.rows && (
        <FaultGrid
          title="Rows that stopped the load"
          about={step.table}
          rows={place.rows}
          atFault={place.rows.rows.length}
        />
      )}
      {step.counts && <Counts counts={step.counts} note={step.note} kinds={data.kinds} />}
      {data.results.length > 0 && (
        <section>
          <SectionTitle aside={`${data.results.length} run with the load`}>Checks</SectionTitle>
          <ul className="mt-1 grid grid-cols-2 gap-x-6 max-bench:grid-cols-1">
            {data.results.map((r) => (
              <li key={r.id} className="flex items-center gap-2 border-b border-line/60 py-1">
                <VerdictMark verdict={r.verdict} size={11} />
                <Link
                  to={address.check(slug, r.id)}
                  className="min-w-0 flex-1 truncate hover:text-plan hover:underline"
                >
                  {titleOf(r.id)}
                </Link>
                <VerdictWord verdict={r.verdict} />
                <span className="w-20 text-right font-mono text-small">{rows(r.atFault)}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {broken.map((r) => (
        <FaultGrid
          key={r.id}
          title={`Rows at fault: ${titleOf(r.id)}`}
          about={r.id}
          rows={r.rows!}
          atFault={Number(r.atFault)}
        />
      ))}
      {data.statements.length > 0 && (
        <section className="flex flex-col gap-1.5">
          <SectionTitle
            aside={`${data.statements.length} statements, ${duration(data.statements.reduce((n, s) => n + (s.milliseconds ?? 0), 0))}, in one transaction`}
          >
            SQL that ran
          </SectionTitle>
          <Sql
            text={data.statements
              .map(
                (s) =>
                  `-- ${s.kind}: ${s.milliseconds === null ? 'with the next' : `${s.milliseconds} ms`}${s.rows === null || s.rows === undefined ? '' : `, ${rows(s.rows)}`}\n${s.sql.trim()};`,
              )
              .join('\n\n')}
            label={`SQL that made ${step.table}`}
          />
        </section>
      )}
    </article>
  );
}
