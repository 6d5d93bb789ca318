import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useWatchFindingsQuery } from '../../data/watches';
import { findingWords } from '../../shared/watch-words';
import { useTodayQuery } from '../../data/releases';
import { placeAddress, useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { CheckState } from '@ouvrage/api/quality';
import type { WatchFinding } from '@ouvrage/api/watch';
import type { TodayAnswer } from '@ouvrage/api/release';
import { ago, between, duration, moment, plural, rows, shortCommit } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { RunWord, StepWord } from '../../shared/run-words';
import { GivenUp, Notices } from './notices';
import { DraftsImpact } from './drafts-impact';

/** What needs a person, in order; then what was built and how long it took. */
export default function Today() {
  const { slug, name, isProduction } = useProject();
  const { data: findings = [] } = useWatchFindingsQuery();
  const { data, error, isLoading, refetch } = useTodayQuery(slug, {
    refetchOnMountOrArgChange: true,
    pollingInterval: 20_000,
    skipPollingIfUnfocused: true,
  });
  if (isLoading) return <Loading what="Loading what needs you" />;
  if (error || !data)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  const needs = [
    findings,
    data.incidents,
    data.broken,
    data.failedRuns,
    data.errors,
    data.late,
    data.drifted,
    data.failedFiles,
    data.toBind,
  ].reduce((n, l) => n + l.length, 0);
  return (
    <div className="h-full overflow-auto bg-sheet">
      <div className="mx-auto grid max-w-295 grid-cols-[minmax(0,1.45fr)_minmax(0,1fr)] gap-x-9 p-5 max-narrow:grid-cols-1">
        <div className="flex flex-col gap-5">
          <header className="border-b-2 border-ink pb-2">
            <h1 className="font-cond text-head leading-tight font-semibold">
              {needs === 0 ? 'All is well' : needs === 1 ? 'One thing needs you' : `${needs} things need you`}
            </h1>
            <p className="text-soft">
              {isProduction ? 'Production' : `Workspace ${name}`}: {plural(data.tables.all, 'table')}
              {data.tables.notRun > 0 ? `, ${data.tables.notRun} not built yet` : ', all available'}
            </p>
          </header>
          <GivenUp />
          <Notices />
          <Needs data={data} findings={findings} />
        </div>
        <Built data={data} />
      </div>
    </div>
  );
}

function Needs({ data, findings }: { data: TodayAnswer; findings: readonly WatchFinding[] }) {
  const project = useProject();
  const { slug } = project;
  const { incidents, broken, failedRuns, errors, late, drifted, failedFiles, toBind, advisory, drafts } = data;
  const nothing = [
    findings,
    incidents,
    broken,
    failedRuns,
    errors,
    late,
    drifted,
    failedFiles,
    toBind,
    advisory,
    drafts,
  ].every((list) => list.length === 0);
  return (
    <>
      {nothing && (
        <p>No incidents are open, no checks are broken, no sources are late, no runs failed, no drafts are open.</p>
      )}
      <Section title="Open incidents" items={data.incidents}>
        {(i) => (
          <Line
            key={i.id}
            to={address.incident(slug, i.id)}
            mark={<VerdictMark verdict={i.severity === 'low' ? 'advisory' : 'broken'} label={i.severity} />}
            title={`${i.id}. ${i.title}`}
            aside={`${i.state}${i.lead ? `, ${i.lead.displayName}` : ''}, ${i.severity}`}
          />
        )}
      </Section>
      <Section title="Broken checks" items={data.broken}>
        {(c) => <CheckLine key={c.id} check={c} />}
      </Section>
      <Section title="Unusual measures" items={findings}>
        {(f) => (
          <Line
            key={f.table}
            to={address.watch(slug, f)}
            mark={<VerdictMark verdict="advisory" label="outside" />}
            title={`${f.table}: ${findingWords(f)}`}
            aside={ago(f.at)}
          />
        )}
      </Section>
      <Section title="Errors in definitions" items={data.errors}>
        {(e) => (
          <Line
            key={e.path + e.line + e.message}
            to={placeAddress(project, e)}
            mark={
              <span aria-hidden className="w-3 text-center font-semibold text-broken">
                !
              </span>
            }
            title={e.message}
            aside={`${e.path} line ${e.line}`}
          />
        )}
      </Section>
      <Section title="Late sources" items={data.late}>
        {(l) => (
          <Line
            key={l.table}
            to={address.place(slug, 'sources')}
            mark={<Hatch position={0} />}
            title={`${l.table} is late`}
            aside={l.since ? `newest row ${moment(l.since)}, allowed ${l.allowed}` : 'never brought in'}
          />
        )}
      </Section>
      <Section title="Drifted sources" items={data.drifted}>
        {(table) => (
          <Line
            key={table}
            to={address.place(slug, 'sources')}
            mark={<Hatch position={0} />}
            title={table}
            aside="columns differ from the declaration"
          />
        )}
      </Section>
      <Section title="Failed files" items={data.failedFiles}>
        {(f) => (
          <Line
            key={f.file + f.at}
            to={address.place(slug, 'sources')}
            mark={<VerdictMark verdict="broken" label="failed" />}
            title={`${f.file}: ${f.reason ?? 'it could not be loaded'}`}
            aside={ago(f.at)}
          />
        )}
      </Section>
      <Section title="Servers without a connection" items={data.toBind}>
        {(s) => (
          <Line
            key={s.server}
            to={address.place(slug, 'settings/connections')}
            mark={<Hatch position={0} />}
            title={`${s.server} is not bound to a connection`}
            aside={`declared in ${s.workspaces.join(', ')}`}
          />
        )}
      </Section>
      <Section title="Failed runs" items={data.failedRuns}>
        {(r) => (
          <Line
            key={r.id}
            to={address.run(slug, r.id)}
            mark={<VerdictMark verdict="broken" label={r.state} />}
            title={`Run ${r.id}, ${r.kind} by ${r.person}`}
            aside={ago(r.finishedAt)}
          />
        )}
      </Section>
      <Section title="Drafts" items={data.drafts}>
        {(d) => (
          <Line
            key={d.path}
            to={address.file(slug, d.path)}
            mark={
              <span aria-hidden className="w-3 text-center text-advisory-text">
                ✎
              </span>
            }
            title={d.path}
            aside={`${d.by}, ${ago(d.at)}`}
          />
        )}
      </Section>
      <DraftsImpact />
      <Section title="Failing advisory checks" items={data.advisory}>
        {(c) => <CheckLine key={c.id} check={c} />}
      </Section>
    </>
  );
}

function Section<T>({
  title,
  items,
  children,
}: {
  title: string;
  items: readonly T[];
  children: (item: T) => ReactNode;
}) {
  if (items.length === 0) return null;
  return (
    <section>
      <h2 className="caps mb-1">
        {title} <span className="font-mono">{items.length}</span>
      </h2>
      <ul className="border-t border-line">{items.slice(0, 12).map(children)}</ul>
      {items.length > 12 && <p className="pt-1 text-soft">and {items.length - 12} more</p>}
    </section>
  );
}

function CheckLine({ check }: { check: CheckState }) {
  const { slug } = useProject();
  return (
    <Line
      to={address.check(slug, check.id)}
      mark={<VerdictMark verdict={check.verdict} />}
      title={`${check.table}: ${check.title}`}
      aside={`${rows(check.atFault)}, ${ago(check.at)}`}
    />
  );
}

function Line({ to, mark, title, aside }: { to: string; mark: ReactNode; title: string; aside: string }) {
  return (
    <li className="border-b border-line">
      <Link to={to} className="flex items-center gap-3 px-1 py-1.5 hover:bg-wash">
        {mark}
        <span className="min-w-0 flex-1 truncate" title={title}>
          {title}
        </span>
        <span className="shrink-0 text-small text-soft">{aside}</span>
      </Link>
    </li>
  );
}

function Built({ data }: { data: TodayAnswer }) {
  const { slug, layerPosition: position } = useProject();
  const { lastRun, lastRelease } = data;
  const steps = [...(lastRun?.steps ?? [])]
    .filter((s) => s.milliseconds !== null)
    .sort((a, b) => (b.milliseconds ?? 0) - (a.milliseconds ?? 0));
  return (
    <aside aria-label="What was built" className="flex flex-col gap-5">
      <section>
        <h2 className="caps border-b-2 border-ink pb-1">Last release</h2>
        {lastRelease ? (
          <dl className="border-b border-line py-1.5">
            <dt className="font-medium">{lastRelease.message}</dt>
            <dd className="text-soft">
              {lastRelease.person}, {ago(lastRelease.at)}, {plural(lastRelease.tables.length, 'table')} from{' '}
              {lastRelease.workspace},{' '}
              <Link
                className="font-mono text-small text-plan underline underline-offset-2"
                to={address.run(slug, lastRelease.runId)}
              >
                {shortCommit(lastRelease.commit)}
              </Link>
            </dd>
          </dl>
        ) : (
          <p className="py-1.5 text-soft">No releases yet: production is as the project started.</p>
        )}
      </section>
      <section>
        <h2 className="caps border-b-2 border-ink pb-1">What was built last</h2>
        {lastRun ? (
          <>
            <p className="border-b border-line py-1.5">
              <Link className="text-plan underline underline-offset-2" to={address.run(slug, lastRun.id)}>
                Run {lastRun.id}, {lastRun.kind}
              </Link>{' '}
              <RunWord state={lastRun.state} />, {ago(lastRun.finishedAt)},{' '}
              {duration(between(lastRun.startedAt, lastRun.finishedAt))}
            </p>
            <DataTable isHeadless columns={stepColumns(position)} rows={steps.slice(0, 14)} keyOf={(s) => s.table} />
          </>
        ) : (
          <p className="py-1.5 text-soft">
            Nothing was built here yet. This workspace reads production’s tables until a definition differs.{' '}
            <Link className="text-plan underline" to={address.place(slug, 'tables')}>
              Open a table
            </Link>{' '}
            to change one.
          </p>
        )}
      </section>
    </aside>
  );
}

const stepColumns = (
  position: (table: string) => number,
): DataColumn<NonNullable<TodayAnswer['lastRun']>['steps'][number]>[] => [
  {
    id: 'table',
    cell: (s) => (
      <span className="flex items-center gap-2">
        {position(s.table) >= 0 ? (
          <Hatch position={position(s.table)} />
        ) : (
          <span aria-hidden className="w-mark text-center">
            ∅
          </span>
        )}
        <span className="truncate">{s.table}</span>
      </span>
    ),
  },
  { id: 'state', cell: (s) => <StepWord state={s.state} /> },
  { id: 'rows', inFigures: true, cell: (s) => (s.rowsIn === null ? '' : rows(s.rowsIn)) },
  { id: 'took', inFigures: true, cell: (s) => duration(s.milliseconds) },
];
