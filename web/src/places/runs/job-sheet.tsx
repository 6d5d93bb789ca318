import type { JobEntry, JobStartEntry } from '@ouvrage/api/job';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { usePauseJobMutation, useStartJobMutation } from '../../data/jobs';
import { PRODUCTION, usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { between, duration, moment, plural, when } from '../../shared/format';
import { RunWord } from '../../shared/run-words';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { SectionTitle } from '../../shared/ui/section-title';
import { startWords } from './job-words';

const NEEDS: Readonly<Record<JobEntry['needs'], string>> = {
  all: 'with all that they need',
  stale: 'with what is stale of what they need',
  none: 'and nothing upstream',
};
/** Tables that are named. */
const SHOWN_TABLES = 3;
/** Runs that are drawn. */
const DRAWN = 28;

/** One job: when it starts, how it went, and what it is. */
export function JobSheet({ job }: { readonly job: JobEntry }) {
  const { slug, textOf } = useProject();
  const reason = whyNot(usePerson(), 'releaser', 'run jobs of production');
  const [start, { isLoading }] = useStartJobMutation();
  const [pause, { isLoading: isPausing }] = usePauseJobMutation();
  const tell = useTell();
  const { name, paused, starts } = job;
  const isGoing = starts.some((s) => s.state === 'started' || s.state === 'waiting');
  return (
    <>
      <section aria-label={name} className="flex min-w-0 flex-1 flex-col bg-sheet">
        <header className="flex h-strip shrink-0 items-center gap-3 border-b border-line px-4">
          <h1 className="sheet-title">{name}</h1>
          <p className="min-w-0 flex-1 truncate text-soft">{job.comment}</p>
          <Button
            disabled={isPausing}
            {...(reason ? { reason } : {})}
            onClick={() =>
              void pause({ name, paused: paused === null })
                .unwrap()
                .catch(tell.problem)
            }
          >
            {paused ? 'Let it start again' : 'Pause'}
          </Button>
          <Button
            tone="act"
            disabled={isLoading}
            {...(reason ? { reason } : isGoing ? { reason: 'It is running already.' } : {})}
            onClick={() => void start(name).unwrap().catch(tell.problem)}
          >
            Run now
          </Button>
        </header>
        <div className="flex min-h-0 flex-1 flex-col gap-5 overflow-auto p-4">
          {paused && (
            <p className="border-l-3 border-advisory bg-raised px-3 py-1.5">
              Paused by {paused.by} since {moment(paused.at)}: nothing starts it but a person.
            </p>
          )}
          {job.error !== null && <p className="border-l-3 border-broken bg-raised px-3 py-1.5">{job.error}</p>}
          <Facts job={job} />
          <Bars starts={starts} />
          <section aria-label="Starts">
            <SectionTitle aside={starts.length > 0 ? `the last ${starts.length}` : ''}>Starts</SectionTitle>
            {starts.length > 0 ? (
              <DataTable label="Starts" columns={COLUMNS} rows={starts} keyOf={(s) => String(s.id)} />
            ) : (
              <p className="text-soft">It has not started yet.</p>
            )}
          </section>
        </div>
      </section>
      <aside
        aria-label="The job’s file"
        className="flex w-80 shrink-0 flex-col gap-4 overflow-auto border-l border-line bg-paper p-3.5"
      >
        <section>
          <SectionTitle
            aside={
              <Link className="text-plan underline underline-offset-2" to={address.file(slug, job.path)}>
                Edit
              </Link>
            }
          >
            {job.path}
          </SectionTitle>
          <pre className="mt-2 overflow-x-auto border border-line bg-raised p-2 font-mono text-small whitespace-pre-wrap">
            {textOf(job.path) ?? 'This workspace no longer has the file.'}
          </pre>
        </section>
        {job.next.length > 0 && (
          <section>
            <SectionTitle>Starts next</SectionTitle>
            <ol>
              {job.next.map((at) => (
                <li key={at}>{inZone(at, job.zone)}</li>
              ))}
            </ol>
          </section>
        )}
        {Object.keys(job.parameters).length > 0 && (
          <section>
            <SectionTitle>Parameters</SectionTitle>
            <dl className="font-mono text-small">
              {Object.entries(job.parameters).map(([parameter, value]) => (
                <div key={parameter} className="flex justify-between gap-3">
                  <dt>{parameter}</dt>
                  <dd>{value}</dd>
                </div>
              ))}
            </dl>
          </section>
        )}
      </aside>
    </>
  );
}

/** `Mon 7 Dec 04:30`, as a clock in the job's zone shows it. */
const inZone = (at: string, zone: string): string =>
  new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    hourCycle: 'h23',
    ...{ weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' },
  })
    .format(new Date(at))
    .replaceAll(',', '');

const took = ({ run }: JobStartEntry): number | null => between(run?.startedAt ?? null, run?.finishedAt ?? null);

function Facts({ job }: { readonly job: JobEntry }) {
  const { next, zone, tables, timeLimit, retries, parallel } = job;
  const times = job.starts.flatMap((s) => (s.run?.state === 'succeeded' ? [took(s) ?? 0] : [])).sort((a, b) => a - b);
  const more = tables.length - SHOWN_TABLES;
  const facts: readonly (readonly [string, string])[] = [
    ['Next', next[0] ? inZone(next[0], zone) : '–'],
    ['Starts', startWords(job)],
    ['Usual', times.length ? duration(times[Math.floor(times.length / 2)]) : '–'],
    [
      'Tables',
      `${tables.slice(0, SHOWN_TABLES).join(', ')}${more > 0 ? ` and ${more} more` : ''}, ${NEEDS[job.needs]}`,
    ],
    [
      'Limits',
      [
        ...(timeLimit === null ? [] : [`stopped after ${duration(timeLimit * 1000)}`]),
        ...(retries > 0 ? [`tried again ${retries === 1 ? 'once' : `${retries} times`}`] : []),
        ...(parallel === null ? [] : [`${plural(parallel, 'table')} at a time`]),
      ].join(', ') || '–',
    ],
  ];
  return (
    <dl className="grid grid-cols-[1fr_1.6fr_0.7fr_2fr_1.2fr] border border-line">
      {facts.map(([name, text]) => (
        <div key={name} className="border-r border-line px-3 py-2 last:border-r-0">
          <dt className="caps">{name}</dt>
          <dd className="break-words">{text}</dd>
        </div>
      ))}
    </dl>
  );
}

/** The last runs as bars by how long they took; the table below says the same in words. */
function Bars({ starts }: { readonly starts: readonly JobStartEntry[] }) {
  const ran = starts
    .filter((s) => s.run?.finishedAt)
    .slice(0, DRAWN)
    .reverse();
  if (ran.length < 2) return null;
  const longest = Math.max(1, ...ran.map((s) => took(s) ?? 0));
  return (
    <section aria-label="Last runs">
      <SectionTitle aside={`the longest took ${duration(longest)}`}>Last {ran.length} runs</SectionTitle>
      <svg viewBox={`0 0 ${DRAWN * 20} 80`} className="h-20 w-full max-w-150" preserveAspectRatio="none" aria-hidden>
        {ran.map((s, i) => {
          const height = Math.max(2, ((took(s) ?? 0) / longest) * 76);
          return (
            <rect
              key={s.id}
              x={i * 20 + 2}
              y={79 - height}
              width="14"
              height={height}
              fill={s.run?.state === 'succeeded' ? 'var(--plan)' : 'var(--broken)'}
            >
              <title>{`run ${s.run?.id ?? ''}, ${s.run?.state ?? ''}, ${duration(took(s))}`}</title>
            </rect>
          );
        })}
        <line x1="0" x2={DRAWN * 20} y1="79.5" y2="79.5" stroke="var(--rule)" />
      </svg>
    </section>
  );
}

/** What made it start, in words. */
function causeWords({ cause, of, person, attempt }: JobStartEntry): string {
  switch (cause) {
    case 'clock':
      return 'the clock';
    case 'after':
      return `after ${of}`;
    case 'delivery':
      return `delivery ${of}`;
    case 'person':
      return person ?? 'a person';
    case 'retry':
      return `attempt ${attempt}, after ${of}`;
  }
}

function Outcome({ start: { state, run, reason } }: { readonly start: JobStartEntry }) {
  const word = run ? (
    <RunWord state={run.state} />
  ) : (
    <span className="text-soft">{state === 'ended' ? 'nothing to do' : state}</span>
  );
  return (
    <>
      {word}
      {reason !== null && <span className="text-soft">, {reason}</span>}
    </>
  );
}

const COLUMNS: readonly DataColumn<JobStartEntry>[] = [
  { id: 'for', look: 'whitespace-nowrap', cell: (s) => when(s.scheduledAt) },
  { id: 'started by', cell: causeWords },
  {
    id: 'run',
    cell: (s) =>
      s.run && (
        <Link className="text-plan underline underline-offset-2" to={address.run(PRODUCTION, s.run.id)}>
          {s.run.id}
        </Link>
      ),
  },
  { id: 'outcome', cell: (s) => <Outcome start={s} /> },
  { id: 'took', inFigures: true, cell: (s) => (s.run?.finishedAt ? duration(took(s)) : '') },
];
