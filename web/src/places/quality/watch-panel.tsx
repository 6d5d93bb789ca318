import type { WatchPoint, WatchVerdict } from '@ouvrage/api/watch';
import type { Verdict } from '@ouvrage/core/check';
import type { ProblemBody } from '@ouvrage/api/problem';
import { lazy, Suspense, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { useTeachWatchMutation, useWatchSeriesQuery } from '../../data/watches';
import { moment, plural } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { OpenIncident } from '../../shared/open-incident';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { DateField } from '../../shared/ui/date-field';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { measureWords } from '@ouvrage/core/watch';
import { LEARNED, rangeWords } from '../../shared/watch-words';
import { present } from '../../data/time';

const WatchChart = lazy(() => import('./watch-chart').then((m) => ({ default: m.WatchChart })));
const DAYS_IGNORED = 7;

/** A verdict of a watch as a mark. */
const MARKS: Readonly<Record<WatchVerdict, { readonly verdict: Verdict; readonly label: string }>> = {
  outside: { verdict: 'advisory', label: 'unusual' },
  ignored: { verdict: 'advisory', label: 'unusual, ignored' },
  silent: { verdict: 'not run', label: 'still learning' },
  inside: { verdict: 'holds', label: 'as expected' },
  agreed: { verdict: 'holds', label: 'normal from then on' },
};

/** A measure of a table over time: what it was, what is expected, and how the watch is taught. */
export function WatchPanel({ table, measure }: { table: string; measure: string }) {
  const { slug } = useProject();
  const navigate = useNavigate();
  const { data, error } = useWatchSeriesQuery(table);
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading measures" />;
  const series = data.find((s) => s.measure === measure);
  const newest = series?.points.at(-1);
  if (!series || !newest)
    return (
      <Empty title={`${table} has no measure ${measure} yet`}>
        <p>Tables of production are measured after each load; views are not.</p>
      </Empty>
    );
  const isOutside = newest.verdict === 'outside';
  return (
    <article className="flex flex-col gap-3 p-4">
      <header className="flex flex-col gap-1">
        <h2 className="sheet-title flex items-center gap-2">
          <VerdictMark {...MARKS[newest.verdict]} size={14} />
          {table}, {measure}
          <span className="text-base font-normal text-soft">
            watch
            {series.expected
              ? `, learned from ${plural(series.expected.from, 'day')} ${LEARNED[series.expected.by] ?? ''}`
              : ', still learning: it says nothing before 14 days'}
            {series.isSampled && ', from samples'}
          </span>
        </h2>
        <p>
          {measureWords(measure, newest.value)} at {moment(newest.at)} in{' '}
          <Link className="text-plan underline underline-offset-2" to={address.run(slug, newest.run)}>
            run {newest.run}
          </Link>
          {newest.least !== null && newest.greatest !== null
            ? `, expected ${rangeWords(measure, { least: newest.least, greatest: newest.greatest })}.`
            : series.expected
              ? `; ${rangeWords(measure, series.expected)} is expected next.`
              : '.'}
        </p>
        {series.ignored && (
          <p className="text-advisory-text">
            Ignored until {moment(series.ignored.until)} by {series.ignored.person}: nothing is said of it until then.
          </p>
        )}
      </header>
      <Suspense fallback={<Loading what="Drawing the chart" />}>
        <WatchChart series={series} onChoose={(run) => void navigate(address.run(slug, run))} />
      </Suspense>
      {isOutside && <Lessons table={table} measure={measure} />}
      <section className="flex flex-col gap-1.5">
        <SectionTitle>Other measures</SectionTitle>
        <ul className="flex flex-wrap gap-x-4">
          {data
            .filter((s) => s.measure !== measure)
            .map((s) => (
              <li key={s.measure}>
                <Link
                  className={`inline-block py-1 underline underline-offset-2 ${s.points.at(-1)?.verdict === 'outside' ? 'text-broken' : 'text-plan'}`}
                  to={address.watch(slug, { table, measure: s.measure })}
                >
                  {s.measure}
                </Link>
              </li>
            ))}
        </ul>
      </section>
      <section className="flex flex-col gap-1.5">
        <SectionTitle aside="newest first">Values</SectionTitle>
        <DataTable
          className="border border-line"
          label={`${measure} of ${table}`}
          columns={columnsOf(measure, slug)}
          rows={[...series.points].reverse().slice(0, 30)}
          keyOf={(p) => p.run}
        />
      </section>
    </article>
  );
}

/** What a person can do about a finding. */
function Lessons({ table, measure }: { table: string; measure: string }) {
  const person = usePerson();
  const tell = useTell();
  const [teach, { isLoading }] = useTeachWatchMutation();
  const [until, setUntil] = useState<string>();
  const reason = whyNot(person, 'editor', 'teach watches');
  const refused = reason ? { reason } : {};
  const send = (lesson: { until?: string }) =>
    teach({ table, measure, ...lesson })
      .unwrap()
      .then(() => setUntil(undefined))
      .catch(tell.problem);
  return (
    <div className="flex flex-wrap items-center gap-2">
      <OpenIncident kind="measure" subject={`${table}/${measure}`} />
      <Button disabled={isLoading} {...refused} onClick={() => void send({})}>
        This is normal from now on
      </Button>
      {until === undefined ? (
        <Button {...refused} onClick={() => setUntil(inDays(DAYS_IGNORED))}>
          Ignore until …
        </Button>
      ) : (
        <>
          <DateField label="Ignore until" value={until} onChange={setUntil} beside />
          <Button tone="act" disabled={isLoading} onClick={() => void send({ until })}>
            Ignore
          </Button>
        </>
      )}
    </div>
  );
}

const inDays = (n: number) => new Date(present() + n * 86_400_000).toISOString().slice(0, 10);

const columnsOf = (measure: string, slug: string): DataColumn<WatchPoint>[] => [
  { id: 'when', look: 'font-mono text-small', cell: (p) => moment(p.at) },
  { id: 'value', inFigures: true, cell: (p) => measureWords(measure, p.value) },
  {
    id: 'expected',
    inFigures: true,
    cell: (p) =>
      p.least === null || p.greatest === null ? '' : rangeWords(measure, { least: p.least, greatest: p.greatest }),
  },
  { id: 'verdict', cell: (p) => (p.verdict === 'silent' ? 'learning' : p.verdict) },
  {
    id: 'run',
    cell: (p) => (
      <Link className="text-plan underline underline-offset-2" to={address.run(slug, p.run)}>
        {p.run}
      </Link>
    ),
  },
];
