import type { CheckOutcome } from '@ouvrage/api/quality';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useCheckHistoryQuery } from '../../data/quality';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { CheckState } from '@ouvrage/api/quality';
import { Sql } from '../../shared/diff';
import { ago, count, moment, rows } from '../../shared/format';
import { Grid } from '../../shared/grid';
import { VerdictMark, VerdictWord } from '../../shared/marks';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Agreements } from '../../shared/agreements';
import { OpenIncident } from '../../shared/open-incident';
import { CheckOverTime } from './check-over-time';
import { RunChecks } from '../../shared/run-checks';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';

/** One check: its verdict, the rows at fault, its SQL, and its results over time. */
export function CheckDetail({ check }: { check: CheckState }) {
  const { slug } = useProject();
  const { data, error, isLoading } = useCheckHistoryQuery({ slug, id: check.id });
  if (isLoading) return <Loading what="Reading results" />;
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  const latest = data?.find((r) => r.run === check.run) ?? undefined;
  return (
    <article className="flex flex-col gap-4 p-4">
      <header className="flex flex-col gap-1">
        <div className="flex items-start justify-between gap-3">
          <h2 className="sheet-title flex items-center gap-2">
            <VerdictMark verdict={check.verdict} size={14} />
            {check.title}
          </h2>
          <span className="flex flex-wrap items-center justify-end gap-2">
            {check.environment === 'production' && check.verdict !== 'holds' && (
              <OpenIncident kind="check" subject={check.id} />
            )}
            {check.kind !== 'policy' && <RunChecks checks={[check.id]}>Run check</RunChecks>}
          </span>
        </div>
        <p className="text-soft">
          <Link className="text-plan underline underline-offset-2" to={address.table(slug, check.table)}>
            {check.table}
          </Link>
          ,{' '}
          {check.kind === 'query'
            ? 'a query that must return no rows'
            : check.kind === 'policy'
              ? 'part of the load'
              : check.kind}
          {check.advisory && ', advisory'}
          {check.tolerate && `, tolerates ${check.tolerate}`}
        </p>
        {check.comment && <p>{check.comment}</p>}
        {check.kind !== 'policy' && <Agreements kind="check" subject={check.id} />}
        <p>
          <VerdictWord verdict={check.verdict} />
          {check.verdict !== 'not run' && (
            <>
              {', '}
              {rows(check.atFault)} at fault
              {check.total !== null && ` of ${count(check.total)}`}, {ago(check.at)} in{' '}
              <Link className="text-plan underline underline-offset-2" to={address.run(slug, check.run!)}>
                run {check.run}
              </Link>
              {check.environment !== slug && ` (${check.environment})`}
            </>
          )}
        </p>
      </header>
      {check.verdict !== 'not run' && <CheckOverTime check={check} />}
      {!latest ? (
        <Empty title="Not run here yet">
          <p>
            {check.kind === 'policy'
              ? `It is part of the load: run ${check.table}.`
              : `It runs with each load of ${check.table}, and alone whenever asked.`}
          </p>
        </Empty>
      ) : (
        <>
          {latest.rows && latest.rows.rows.length > 0 && (
            <section aria-label="Rows at fault" className="flex flex-col gap-1.5">
              <SectionTitle
                aside={
                  latest.rows.rows.length < Number(latest.atFault)
                    ? `first ${latest.rows.rows.length} of ${count(latest.atFault)}`
                    : rows(latest.atFault)
                }
              >
                Rows at fault
              </SectionTitle>
              <div className="border border-line" style={{ height: Math.min(300, 42 + latest.rows.rows.length * 22) }}>
                <Grid
                  label="Rows at fault"
                  columns={latest.rows.columns.map((name) => ({ name }))}
                  rows={latest.rows.rows}
                />
              </div>
            </section>
          )}
          <section className="flex flex-col gap-1.5">
            <SectionTitle aside="finds the rows at fault, with the names of its environment">SQL</SectionTitle>
            <Sql text={latest.sql} label="SQL of the check" />
          </section>
        </>
      )}
      {data && data.length > 0 && (
        <section className="flex flex-col gap-1.5">
          <SectionTitle aside="newest first">Results over time</SectionTitle>
          <DataTable
            className="border border-line"
            columns={resultColumns(slug)}
            rows={data.slice(0, 20)}
            keyOf={(r) => `${r.run} ${r.environment}`}
          />
        </section>
      )}
    </article>
  );
}

const resultColumns = (slug: string): DataColumn<CheckOutcome>[] => [
  {
    id: 'verdict',
    cell: (r) => (
      <span className="flex items-center gap-2">
        <VerdictMark verdict={r.verdict} size={11} /> <VerdictWord verdict={r.verdict} />
      </span>
    ),
  },
  { id: 'rows at fault', inFigures: true, cell: (r) => count(r.atFault) },
  { id: 'of', inFigures: true, cell: (r) => count(r.total) },
  { id: 'environment', cell: (r) => r.environment },
  {
    id: 'run',
    cell: (r) => (
      <Link className="text-plan underline underline-offset-2" to={address.run(slug, r.run)}>
        {r.run}
      </Link>
    ),
  },
  { id: 'when', look: 'font-mono text-small', cell: (r) => moment(r.at) },
];
