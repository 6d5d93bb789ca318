import type { Instant } from './instant.js';
import type { FaultRows } from './rows.js';
import type { Verdict } from '@ouvrage/core/check';

export type RunState = 'queued' | 'running' | 'succeeded' | 'failed' | 'stopped' | 'interrupted';

export type RunKind = 'build' | 'intake' | 'release' | 'check';

export type StepState = 'waiting' | 'running' | 'done' | 'failed' | 'blocked' | 'stopped' | 'reused' | 'interrupted';

export interface RunEntry {
  readonly id: number;
  readonly kind: RunKind;
  readonly environment: string;
  readonly commit: string;
  readonly state: RunState;
  readonly person: string;
  readonly tables: readonly string[];
  readonly upstream: boolean;
  readonly downstream: boolean;
  readonly parallelism: number;
  readonly parameters: Readonly<Record<string, string>>;
  readonly error: string | null;
  readonly continues: number | null;
  /** The job that it is of; null of what a person asked for. */
  readonly job: string | null;
  readonly createdAt: Instant;
  readonly startedAt: Instant | null;
  readonly finishedAt: Instant | null;
}

/** A statement of a load as it ran. */
export interface RanStatement {
  readonly kind: string;
  readonly sql: string;
  /** Null where the statement went with the next one, in whose time its own is. */
  readonly milliseconds: number | null;
  readonly rows: number | null;
}

/** What went wrong, with its place in the author's file. */
export interface StepError {
  readonly message: string;
  readonly detail?: string;
  readonly hint?: string;
  readonly sqlstate?: string;
  readonly path?: string;
  readonly line?: number;
  readonly column?: number;
  /** The rows that caused it. */
  readonly rows?: FaultRows;
}

export type LoadCounts = Readonly<Record<string, number>>;

export interface StepEntry {
  readonly id: number;
  readonly kind: 'load' | 'check' | 'intake';
  readonly table: string;
  readonly state: StepState;
  readonly waitsFor: readonly string[];
  readonly rowsOut: string | null;
  readonly rowsIn: string | null;
  readonly counts: LoadCounts | null;
  /** Why the load changed its table in place, or wrote it again. */
  readonly note: string | null;
  readonly error: StepError | null;
  readonly startedAt: Instant | null;
  readonly finishedAt: Instant | null;
  readonly checks: readonly {
    readonly id: string;
    readonly verdict: Verdict;
    readonly atFault: string | null;
    readonly total: string | null;
  }[];
}

export interface RunDetail extends RunEntry {
  readonly steps: readonly StepEntry[];
}

export interface StepDetail extends StepEntry {
  /** Some rows of each kind that the load counted. */
  readonly kinds: Readonly<Record<string, FaultRows>> | null;
  readonly statements: readonly RanStatement[];
  readonly results: readonly {
    readonly id: string;
    readonly verdict: Verdict;
    readonly atFault: string | null;
    readonly total: string | null;
    readonly sql: string;
    readonly rows: FaultRows | null;
  }[];
}
