import type { RunState, StepState } from '@ouvrage/api/run';

const STEP: Readonly<Record<StepState, readonly [string, string]>> = {
  waiting: ['waiting', 'text-soft'],
  running: ['running', 'text-plan'],
  done: ['done', 'text-holds-text'],
  failed: ['failed', 'text-broken'],
  blocked: ['not run', 'text-soft'],
  stopped: ['stopped', 'text-advisory-text'],
  reused: ['from production', 'text-soft'],
  interrupted: ['interrupted', 'text-advisory-text'],
};

const RUN: Readonly<Record<RunState, readonly [string, string]>> = {
  queued: ['waiting', 'text-soft'],
  running: ['running', 'text-plan'],
  succeeded: ['succeeded', 'text-holds-text'],
  failed: ['failed', 'text-broken'],
  stopped: ['stopped', 'text-advisory-text'],
  interrupted: ['interrupted', 'text-advisory-text'],
};

export function StepWord({ state }: { state: StepState }) {
  const [word, colour] = STEP[state];
  return <span className={`whitespace-nowrap ${colour}`}>{word}</span>;
}

export function RunWord({ state }: { state: RunState }) {
  const [word, colour] = RUN[state];
  return <span className={`whitespace-nowrap ${colour}`}>{word}</span>;
}

export const isGoing = (state: RunState) => state === 'queued' || state === 'running';
