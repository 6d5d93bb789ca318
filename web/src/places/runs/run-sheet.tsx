import { useEffect, useState } from 'react';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useContinueRunMutation, useRunQuery, useStopRunMutation } from '../../data/runs';
import { useProject } from '../../data/project';
import { mayAct, PRODUCTION, usePerson } from '../../data/person';
import { useWorkspacesQuery } from '../../data/workspaces';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { RunDetail, StepEntry } from '@ouvrage/api/run';
import { between, count, duration, moment, plural, shortCommit } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { TakeAway } from './take-away';
import { StepSheet } from './step-sheet';
import { isGoing, RunWord, StepWord } from '../../shared/run-words';
import { present } from '../../data/time';

/** One run as a timeline of tables, live while it goes on. */
export function RunSheet({ id, step }: { id: number; step: number | undefined }) {
  const { data: run, error, isLoading, refetch } = useRunQuery(id);
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null);
  if (isLoading) return <Loading what="Reading the run" />;
  if (error || !run)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  const shown = run.steps.find((s) => s.id === step) ?? run.steps.find((s) => s.state === 'failed');
  return (
    <div className="flex h-full min-h-0 flex-col">
      <RunHead run={run} />
      <div
        ref={setScroller}
        className={`min-h-0 overflow-auto ${shown ? 'h-1/2 flex-none border-b border-rule' : 'flex-1'}`}
      >
        <Timeline run={run} current={shown?.id} scroller={scroller} />
      </div>
      {shown && (
        <div className="min-h-0 flex-1 overflow-auto">
          <StepSheet key={shown.id} run={run.id} step={shown} />
        </div>
      )}
    </div>
  );
}

function RunHead({ run }: { run: RunDetail }) {
  const { slug } = useProject();
  const person = usePerson();
  const [stop] = useStopRunMutation();
  const [goOn] = useContinueRunMutation();
  const navigate = useNavigate();
  const tell = useTell();
  const now = useNow(isGoing(run.state));
  const { data: workspaces } = useWorkspacesQuery();
  const isKept = workspaces?.find((w) => w.slug === run.environment)?.isShared === false;
  const allowed = mayAct(person, run.environment === PRODUCTION ? 'releaser' : 'editor') && !isKept;
  const ended = run.steps.filter((s) => !['waiting', 'running'].includes(s.state)).length;
  return (
    <header className="shrink-0 border-b border-line px-4 py-2.5">
      <div className="flex items-center gap-3">
        <h1 className="sheet-title">
          Run {run.id}: {run.kind} in {run.environment}
        </h1>
        <RunWord state={run.state} />
        <span className="flex-1" />
        {run.kind === 'build' && <TakeAway tables={run.tables} name="its tables" />}
        {allowed && isGoing(run.state) && (
          <Button tone="danger" onClick={() => void stop(run.id).unwrap().catch(tell.problem)}>
            Stop
          </Button>
        )}
        {allowed && ['failed', 'stopped', 'interrupted'].includes(run.state) && run.kind !== 'release' && (
          <Button
            tone="act"
            onClick={() =>
              void goOn(run.id)
                .unwrap()
                .then((made) => navigate(address.run(slug, made.id)))
                .catch(tell.problem)
            }
          >
            Continue from here
          </Button>
        )}
      </div>
      <p className="text-soft">
        {run.person}, {moment(run.createdAt)}, commit{' '}
        <span className="font-mono text-small">{shortCommit(run.commit)}</span>, {plural(run.parallelism, 'table')} at a
        time, {isGoing(run.state) ? `${ended} of ${run.steps.length} steps, ` : `${plural(run.steps.length, 'step')}, `}
        {duration(
          run.startedAt
            ? (run.finishedAt ? new Date(run.finishedAt).getTime() : now) - new Date(run.startedAt).getTime()
            : null,
        )}
        {run.continues !== null && `, continues run ${run.continues}`}
        {Object.entries(run.parameters).map(([k, v]) => `, ${k} = ${v}`)}
      </p>
      {isGoing(run.state) && (
        <progress className="sr-only" aria-label="Steps done" max={run.steps.length} value={ended} />
      )}
      {run.error && <p className="mt-1 text-broken">{run.error}</p>}
    </header>
  );
}

function useNow(ticking: boolean): number {
  const [now, setNow] = useState(present);
  useEffect(() => {
    if (!ticking) return;
    const timer = setInterval(() => setNow(present()), 250);
    return () => clearInterval(timer);
  }, [ticking]);
  return now;
}

/** The height of a step's row, in pixels. */
const STEP_HEIGHT = 27;

/** Rows are steps, bars their time; a step's hatch is its layer. */
function Timeline({
  run,
  current,
  scroller,
}: {
  run: RunDetail;
  current: number | undefined;
  scroller: HTMLElement | null;
}) {
  const { slug, layerPosition: layer } = useProject();
  const navigate = useNavigate();
  const now = useNow(isGoing(run.state));
  const start = run.startedAt ? new Date(run.startedAt).getTime() : now;
  const end = Math.max(start + 1, run.finishedAt ? new Date(run.finishedAt).getTime() : now);
  const intake = run.kind === 'intake';
  const took = (s: StepEntry) =>
    between(s.startedAt, s.finishedAt ?? (s.startedAt ? new Date(now).toISOString() : null));
  const columns: DataColumn<StepEntry>[] = [
    {
      id: 'step',
      width: 'w-55',
      cell: (s) => (
        <button
          type="button"
          aria-expanded={s.id === current}
          onClick={() => void navigate(address.run(slug, run.id, s.id), { replace: true })}
          className="flex max-w-full items-center gap-2 text-left"
        >
          {layer(s.table) >= 0 ? (
            <Hatch position={layer(s.table)} />
          ) : (
            <span aria-hidden className="w-mark text-center">
              ∅
            </span>
          )}
          <span className="truncate font-medium" title={s.table}>
            {s.table}
          </span>
        </button>
      ),
    },
    { id: 'state', width: 'w-31', cell: (s) => <StepWord state={s.state} /> },
    ...(intake ? [{ id: 'rows out', width: 'w-19', inFigures: true, cell: (s: StepEntry) => count(s.rowsOut) }] : []),
    { id: intake ? 'rows in' : 'rows', width: 'w-19', inFigures: true, cell: (s) => count(s.rowsIn) },
    ...(intake ? [] : [{ id: 'checks', width: 'w-19', cell: (s: StepEntry) => <StepChecks step={s} /> }]),
    { id: 'took', width: 'w-19', inFigures: true, sortBy: (s) => took(s) ?? undefined, cell: (s) => duration(took(s)) },
    {
      id: 'time',
      title: (
        <span className="flex justify-between">
          <span>0</span>
          <span>{duration(end - start)}</span>
        </span>
      ),
      cell: (s) => <Bar step={s} start={start} end={end} now={now} />,
    },
  ];
  return (
    <DataTable
      className="table-fixed"
      columns={columns}
      rows={run.steps}
      keyOf={(s) => s.id}
      virtual={{ scroller, height: STEP_HEIGHT }}
      rowLook={(s) => `h-control-small ${s.id === current ? 'bg-wash' : 'hover:bg-wash/50'}`}
    />
  );
}

/** One mark for the worst verdict, and how many checks. */
function StepChecks({ step }: { step: StepEntry }) {
  if (step.checks.length === 0) return null;
  const worst =
    (['broken', 'advisory', 'holds'] as const).find((v) => step.checks.some((c) => c.verdict === v)) ?? 'not run';
  return (
    <span className="flex items-center gap-1.5">
      <VerdictMark verdict={worst} size={11} />
      <span className="font-mono text-small">{step.checks.length}</span>
    </span>
  );
}

function Bar({ step, start, end, now }: { step: StepEntry; start: number; end: number; now: number }) {
  if (!step.startedAt)
    return step.waitsFor.length && step.state === 'waiting' ? (
      <span className="block truncate text-small text-soft">waits for {step.waitsFor.join(', ')}</span>
    ) : null;
  const from = new Date(step.startedAt).getTime();
  const to = step.finishedAt ? new Date(step.finishedAt).getTime() : now;
  const share = (t: number) => Math.max(0, Math.min(100, ((t - start) / (end - start)) * 100));
  const fill =
    step.state === 'failed'
      ? 'var(--broken)'
      : step.state === 'running'
        ? 'var(--accent)'
        : step.state === 'done'
          ? 'var(--plan)'
          : 'var(--notrun)';
  return (
    <svg width="100%" height="11" aria-hidden>
      <line x1="0" x2="100%" y1="5.5" y2="5.5" stroke="var(--line)" />
      <rect x={`${share(from)}%`} width={`${Math.max(0.4, share(to) - share(from))}%`} y="1" height="9" fill={fill} />
    </svg>
  );
}
