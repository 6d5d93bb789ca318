import type { CheckPoint } from '@ouvrage/api/quality';
import type { ProblemBody } from '@ouvrage/api/problem';
import { worst, type Verdict } from '@ouvrage/core/check';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useQualityDayQuery, type VerdictsOf } from '../../data/quality';
import { useWatchFindingsQuery } from '../../data/watches';
import { count, moment, plural, rows as rowsWord } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { findingWords } from '../../shared/watch-words';
import { StepWord } from '../../shared/run-words';

/** What ran of a table on a day: the worst first. */
export function DayPanel({ of, table, day }: { of: VerdictsOf; table: string; day: string }) {
  const { slug, checks } = useProject();
  const { data, error, isFetching } = useQualityDayQuery({ slug, of, table, day });
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data || isFetching) return <Loading what="Reading the day" />;
  const titles = new Map(checks.map((c) => [c.id, c.title]));
  const verdict: Verdict = worst(data.results.map((r) => r.verdict)) ?? (data.loads.length ? 'holds' : 'not run');
  return (
    <article className="flex flex-col gap-3 p-4">
      <h2 className="sheet-title flex items-center gap-2">
        <VerdictMark verdict={verdict} size={14} />
        <Link className="hover:underline" to={address.table(slug, table, 'checks')}>
          {table}
        </Link>
        <span className="font-mono text-base font-normal text-soft">{day}</span>
      </h2>
      {data.results.length + data.loads.length === 0 && <p className="text-soft">Nothing ran of it on this day.</p>}
      {data.loads.length > 0 && (
        <section className="flex flex-col gap-1.5">
          <SectionTitle aside={plural(data.loads.length, 'load')}>Loads</SectionTitle>
          <ul>
            {data.loads.map((l) => (
              <li key={l.run} className="flex gap-3 border-b border-line py-1">
                <span className="font-mono text-small text-soft">{moment(l.at)}</span>
                <Link className="text-plan underline underline-offset-2" to={address.run(slug, l.run)}>
                  run {l.run}
                </Link>
                <StepWord state={l.state} />
                <span className="min-w-0 truncate">{l.error ?? (l.rows === null ? '' : rowsWord(l.rows))}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {of === 'production' && <Watches table={table} />}
      {data.results.length > 0 && (
        <section className="flex flex-col gap-1.5">
          <SectionTitle aside={plural(data.results.length, 'verdict')}>Checks</SectionTitle>
          <DataTable
            className="border border-line"
            label={`Checks of ${table} on ${day}`}
            columns={columnsOf(slug, titles)}
            rows={[...data.results].sort((a, b) => RANK[a.verdict] - RANK[b.verdict])}
            keyOf={(r) => `${r.id} ${r.run}`}
          />
        </section>
      )}
    </article>
  );
}

/** What watches tell of the table, and the way to its measures. */
function Watches({ table }: { table: string }) {
  const { slug } = useProject();
  const { data } = useWatchFindingsQuery();
  const finding = data?.find((f) => f.table === table);
  return (
    <p className="flex items-center gap-2">
      {finding && <VerdictMark verdict="advisory" size={11} label="watch" />}
      <Link
        className="text-plan underline underline-offset-2"
        to={address.watch(slug, { table, measure: finding?.measure ?? 'rows' })}
      >
        {finding ? findingWords(finding) : 'Measures over time'}
      </Link>
    </p>
  );
}

const RANK: Readonly<Record<Verdict, number>> = { broken: 0, advisory: 1, 'not run': 2, holds: 3 };

const columnsOf = (slug: string, titles: ReadonlyMap<string, string>): DataColumn<CheckPoint>[] => [
  {
    id: 'check',
    cell: (r) => (
      <span className="flex items-center gap-2">
        <VerdictMark verdict={r.verdict} size={11} />
        {titles.has(r.id) ? (
          <Link className="text-plan underline underline-offset-2" to={address.check(slug, r.id)}>
            {titles.get(r.id)}
          </Link>
        ) : (
          `${r.id}, no longer a check`
        )}
      </span>
    ),
  },
  { id: 'rows at fault', inFigures: true, sortBy: (r) => Number(r.atFault), cell: (r) => count(r.atFault) },
  { id: 'of', inFigures: true, cell: (r) => count(r.total) },
  {
    id: 'run',
    cell: (r) => (
      <Link className="text-plan underline underline-offset-2" to={address.run(slug, r.run)}>
        {r.run}
      </Link>
    ),
  },
  { id: 'when', look: 'font-mono text-small', sortBy: (r) => r.at, cell: (r) => moment(r.at) },
];
