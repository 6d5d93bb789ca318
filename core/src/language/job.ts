import type { Job } from '../model/project.js';
import { isCron, parseCron, type Cron } from '../schedule/cron.js';
import { secondsOf } from '../schedule/length.js';
import type { JobOption } from './options.js';

/** What a job says, read once. */
export interface JobSpec {
  /** When the clock starts it; undefined where it does not. */
  readonly cron: Cron | undefined;
  readonly zone: string;
  readonly after: readonly string[];
  readonly onDelivery: readonly string[];
  readonly needs: 'all' | 'stale' | 'none';
  readonly onlyStale: boolean;
  /** Undefined where the server decides. */
  readonly parallel: number | undefined;
  /** Seconds. */
  readonly timeLimit: number | undefined;
  readonly retries: number;
  /** Seconds. */
  readonly retryAfter: number;
  readonly whenRunning: 'skip' | 'wait';
  readonly whenMissed: 'once' | 'skip';
  readonly parameters: ReadonlyMap<string, string>;
}

const USUAL_RETRY_SECONDS = 60;
const PARAM = 'param.';

/** Names in a list with commas between. */
export const namesIn = (value: string | undefined): readonly string[] =>
  (value ?? '')
    .split(',')
    .map((name) => name.trim())
    .filter((name) => name !== '');

/** A job's options as what they mean; those that are wrong are as if they were not written. */
export function jobSpec({ options }: Pick<Job, 'options'>): JobSpec {
  const text = (name: JobOption) => options.get(name)?.value;
  const count = (name: JobOption) => (/^\d+$/.test(text(name) ?? '') ? Number(text(name)) : undefined);
  const length = (name: JobOption) => (text(name) === undefined ? undefined : secondsOf(text(name)!));
  const cron = text('at') === undefined ? undefined : parseCron(text('at')!);
  const needs = text('needs');
  return {
    cron: cron && isCron(cron) ? cron : undefined,
    zone: text('time_zone') ?? 'UTC',
    after: namesIn(text('after')),
    onDelivery: namesIn(text('on_delivery')),
    needs: needs === 'all' || needs === 'none' ? needs : 'stale',
    onlyStale: ['true', 'on'].includes(text('only_stale') ?? ''),
    parallel: count('parallel') || undefined,
    timeLimit: length('time_limit'),
    retries: count('retries') ?? 0,
    retryAfter: length('retry_after') ?? USUAL_RETRY_SECONDS,
    whenRunning: text('when_running') === 'wait' ? 'wait' : 'skip',
    whenMissed: text('when_missed') === 'skip' ? 'skip' : 'once',
    parameters: new Map(
      [...options].flatMap(([name, { value }]) => (name.startsWith(PARAM) ? [[name.slice(PARAM.length), value]] : [])),
    ),
  };
}
