import type { Instant } from './instant.js';
import type { RunState } from './run.js';

/** What made a job start. */
export type JobCause = 'clock' | 'after' | 'delivery' | 'person' | 'retry';

/** `ended`: its run has ended, or it had nothing to do; `skipped` and `refused` never ran. */
export type JobStartState = 'waiting' | 'started' | 'ended' | 'skipped' | 'refused';

/** One reason to run a job, and what became of it. */
export interface JobStartEntry {
  readonly id: number;
  readonly cause: JobCause;
  /** The instant, the run or the delivery. */
  readonly of: string;
  readonly scheduledAt: Instant;
  readonly state: JobStartState;
  readonly reason: string | null;
  /** From 1; more of a retry. */
  readonly attempt: number;
  readonly person: string | null;
  readonly run: {
    readonly id: number;
    readonly state: RunState;
    readonly startedAt: Instant | null;
    readonly finishedAt: Instant | null;
  } | null;
}

/** A job of production as it was released. */
export interface JobEntry {
  readonly name: string;
  readonly path: string;
  readonly comment: string | null;
  /** When the clock starts it, in words; null where it does not. */
  readonly words: string | null;
  readonly zone: string;
  /** The next starts by the clock. */
  readonly next: readonly Instant[];
  readonly after: readonly string[];
  readonly onDelivery: readonly string[];
  readonly needs: 'all' | 'stale' | 'none';
  readonly onlyStale: boolean;
  readonly parallel: number | null;
  /** Seconds. */
  readonly timeLimit: number | null;
  readonly retries: number;
  readonly parameters: Readonly<Record<string, string>>;
  readonly tables: readonly string[];
  /** What keeps it from running, the first of several. */
  readonly error: string | null;
  readonly paused: { readonly by: string; readonly at: Instant } | null;
  /** The newest first. */
  readonly starts: readonly JobStartEntry[];
}
