import type { SourceAge, TodayAnswer } from '@ouvrage/api/release';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { ageWords } from '@ouvrage/core/watch';
import { between, count, duration, plural, rows, when } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { RunWord } from '../../shared/run-words';

/** What was built and how long it took, how old the sources are, what was released. */
export function Beside({ data }: { data: TodayAnswer }) {
  return (
    <aside aria-label="What was built" className="flex flex-col gap-6">
      <LastBuild data={data} />
      <Sources sources={data.sources} />
      <Releases releases={data.releases} />
    </aside>
  );
}

type Run = NonNullable<TodayAnswer['lastRun']>;

function LastBuild({ data: { lastRun, builds } }: { data: TodayAnswer }) {
  const { slug } = useProject();
  return (
    <section>
      <h2 className="caps border-b-2 border-ink pb-1">Last build</h2>
      {lastRun ? (
        <>
          <p className="flex flex-wrap items-center gap-x-2 pt-2">
            <VerdictMark verdict={lastRun.state === 'succeeded' ? 'holds' : 'broken'} label={lastRun.state} />
            <Link className="font-medium text-plan underline underline-offset-2" to={address.run(slug, lastRun.id)}>
              Run {lastRun.id}
            </Link>
            <RunWord state={lastRun.state} />
            <span className="text-soft">
              {when(lastRun.startedAt)}, {timeWords(lastRun, builds)}
            </span>
          </p>
          {builds.length > 1 && <BuildBars builds={builds} />}
          <p className="pt-1 text-soft">
            <StepsSaid run={lastRun} />
          </p>
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
  );
}

/** Builds before the last one from which is known what is usual. */
const LEAST_KNOWN = 4;
/** A difference that is said: a tenth of what is usual, and a second. */
const LEAST_SHARE = 0.1;
const LEAST_MILLISECONDS = 1000;

/** `4 min 12 s, 32 s slower than usual`: usual is the median of the builds before that went well. */
function timeWords(run: Run, builds: TodayAnswer['builds']): string {
  const took = between(run.startedAt, run.finishedAt);
  const before = builds
    .filter((b) => b.id !== run.id && b.state === 'succeeded')
    .map((b) => b.milliseconds)
    .sort((a, b) => a - b);
  if (took === null || before.length < LEAST_KNOWN || run.state !== 'succeeded') return duration(took);
  const usual = before[Math.floor(before.length / 2)]!;
  const more = took - usual;
  if (Math.abs(more) < Math.max(LEAST_MILLISECONDS, LEAST_SHARE * usual)) return `${duration(took)}, as usual`;
  return `${duration(took)}, ${duration(Math.abs(more))} ${more > 0 ? 'slower' : 'faster'} than usual`;
}

/** How long the builds took, each a bar that leads to its run. */
function BuildBars({ builds }: { builds: TodayAnswer['builds'] }) {
  const { slug } = useProject();
  const longest = Math.max(...builds.map((b) => b.milliseconds), 1);
  return (
    <ol aria-label="Builds before" className="flex h-14 items-end gap-1 border-b border-rule pt-2">
      {builds.map((b) => {
        const words = `Run ${b.id}, ${when(b.at)}: ${duration(b.milliseconds)}, ${b.state}`;
        return (
          <li key={b.id} className="flex h-full max-w-4 flex-1 items-end">
            <Link
              to={address.run(slug, b.id)}
              aria-label={words}
              title={words}
              className={`block w-full hover:opacity-70 ${b.state === 'succeeded' ? 'bg-plan' : 'bg-broken'}`}
              style={{ height: `${Math.max(6, (b.milliseconds / longest) * 100)}%` }}
            />
          </li>
        );
      })}
    </ol>
  );
}

/** `31 of 33 tables loaded, 8,412 rows in; core.fact_dues stopped, 2 wait for it`. */
function StepsSaid({ run }: { run: Run }) {
  const { slug } = useProject();
  const asked = run.steps.filter((s) => s.state !== 'reused');
  const done = asked.filter((s) => s.state === 'done');
  const stopped = asked.filter((s) => s.state === 'failed');
  const waiting = asked.filter((s) => s.state === 'blocked').length;
  const read = done.reduce((sum, s) => sum + Number(s.rowsIn ?? 0), 0);
  return (
    <>
      {done.length === asked.length
        ? `${plural(done.length, 'table')} loaded`
        : `${count(done.length)} of ${plural(asked.length, 'table')} loaded`}
      , {rows(read)} in
      {stopped.map((s, i) => (
        <span key={s.table}>
          {i === 0 ? '; ' : ', '}
          <Link className="text-plan underline underline-offset-2" to={address.table(slug, s.table)}>
            {s.table}
          </Link>
        </span>
      ))}
      {stopped.length > 0 && ' stopped'}
      {waiting > 0 && `, ${count(waiting)} ${waiting === 1 ? 'waits' : 'wait'} for it`}
    </>
  );
}

/** Where on the bar a source counts as late. */
const STROKE = 0.6;
const SHOWN_SOURCES = 10;

/** How old the newest row of each source is against when it counts as late. */
function Sources({ sources }: { sources: readonly SourceAge[] }) {
  const { slug } = useProject();
  if (sources.length === 0) return null;
  return (
    <section>
      <h2 className="caps border-b border-ink pb-1">Sources, newest row</h2>
      <ul>
        {sources.slice(0, SHOWN_SOURCES).map((s) => (
          <li
            key={s.table}
            className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)_4.5rem] items-center gap-3 border-b border-line py-1"
          >
            <Link className="truncate hover:underline" to={address.table(slug, s.table)} title={s.table}>
              {s.table}
            </Link>
            <span aria-hidden className="relative h-1.5 bg-paper">
              <span
                className={`absolute inset-y-0 left-0 ${s.late ? 'bg-advisory' : 'bg-plan'}`}
                style={{ width: `${Math.min(100, ((s.age ?? Infinity) / s.allowed) * STROKE * 100)}%` }}
              />
              <span className="absolute -inset-y-0.75 w-px bg-ink" style={{ left: `${STROKE * 100}%` }} />
            </span>
            <span className={`text-right font-mono text-small ${s.late ? 'text-advisory-text' : 'text-soft'}`}>
              {s.age === null ? 'never' : ageWords(s.age)}
              {s.late && <span className="sr-only">, late</span>}
            </span>
          </li>
        ))}
      </ul>
      <p className="pt-1 text-small text-soft">
        the stroke is when it counts as late
        {sources.length > SHOWN_SOURCES && `; ${sources.length - SHOWN_SOURCES} more are younger`}
      </p>
    </section>
  );
}

function Releases({ releases }: { releases: TodayAnswer['releases'] }) {
  const { slug } = useProject();
  return (
    <section>
      <h2 className="caps border-b border-ink pb-1">Releases</h2>
      {releases.length === 0 && (
        <p className="py-1.5 text-soft">No releases yet: production is as the project started.</p>
      )}
      <ul className="pt-1">
        {releases.map((r) => (
          <li key={r.id} className="py-0.5">
            <Link className="text-plan underline underline-offset-2" to={address.run(slug, r.runId)}>
              {r.id}
            </Link>{' '}
            {r.message},{' '}
            <span className="text-soft">
              by {r.person}, {when(r.at)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
