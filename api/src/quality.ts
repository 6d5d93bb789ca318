import type { Instant } from './instant.js';
import type { FaultRows } from './rows.js';
import type { LoadCounts, StepError, StepState } from './run.js';
import type { Verdict } from '@ouvrage/core/check';

export interface CheckState {
  readonly id: string;
  readonly kind: string;
  readonly title: string;
  readonly table: string;
  readonly columns: readonly string[];
  readonly advisory: boolean;
  readonly tolerate: string | null;
  readonly comment: string | null;
  readonly verdict: Verdict;
  readonly atFault: string | null;
  readonly total: string | null;
  readonly at: Instant | null;
  readonly run: number | null;
  readonly environment: string | null;
}

export interface TableState {
  readonly table: string;
  readonly where: 'here' | 'production' | 'nowhere';
  readonly rows: string | null;
  readonly loadedAt: Instant | null;
  readonly run: number | null;
  readonly verdict: Verdict;
}

/** What was last found of a check; the project itself says what it is. */
export type CheckFound = Pick<CheckState, 'id' | 'verdict' | 'atFault' | 'total' | 'at' | 'run' | 'environment'>;

/** How an environment stands: of tables that are somewhere, and of checks that were run. */
export interface StateAnswer {
  readonly tables: readonly TableState[];
  readonly checks: readonly CheckFound[];
}

export interface CheckOutcome {
  readonly environment: string;
  readonly verdict: Verdict;
  readonly atFault: string | null;
  readonly total: string | null;
  readonly at: Instant;
  readonly run: number;
  readonly sql: string;
  readonly rows: FaultRows | null;
}

/** A verdict on a check, without its SQL and rows. */
export interface CheckPoint {
  readonly id: string;
  readonly verdict: Verdict;
  readonly atFault: string | null;
  readonly total: string | null;
  readonly at: Instant;
  readonly run: number;
}

/** How the tables of an environment were on each of some days. */
export interface QualityDays {
  readonly environment: string;
  /** The zone that the days are of. */
  readonly zone: string;
  /** `2026-11-30`, oldest first. */
  readonly days: readonly string[];
  /** The worst verdict of each day, null where nothing of a table ran; tables of which nothing ran on any are left out. */
  readonly tables: readonly { readonly table: string; readonly verdicts: readonly (Verdict | null)[] }[];
}

/** What ran of one table on one day. */
export interface QualityDay {
  readonly results: readonly CheckPoint[];
  /** Loads of the table, and what stopped those that did not end well. */
  readonly loads: readonly {
    readonly run: number;
    readonly state: StepState;
    readonly rows: string | null;
    readonly error: string | null;
    readonly at: Instant;
  }[];
}

/** A check over time. */
export interface CheckSeries {
  /** Oldest first, at most 400. */
  readonly points: readonly CheckPoint[];
  /** Releases within the time of the points. */
  readonly releases: readonly ReleaseMark[];
  readonly failing: FailingSince | null;
}

export interface ReleaseMark {
  readonly id: number;
  readonly message: string;
  readonly person: string;
  readonly at: Instant;
}

/** Since when a check has not held, and what changed between the last verdict that held and the first that did not. */
export interface FailingSince {
  readonly since: Instant;
  /** The first run in which it did not hold. */
  readonly run: number;
  /** Verdicts since then, that one included. */
  readonly results: number;
  /** When it last held; null if it never did. */
  readonly held: Instant | null;
  /** Releases in between that changed a table which the check depends on. */
  readonly releases: readonly (ReleaseMark & { readonly tables: readonly string[] })[];
  /** Loads in between of tables which the check depends on, nearest first. */
  readonly loads: readonly {
    readonly table: string;
    readonly run: number;
    readonly state: StepState;
    readonly at: Instant;
    readonly rows: string | null;
    /** Rows after the load before. */
    readonly rowsBefore: string | null;
  }[];
  /** Files in between that were loaded into tables which the check depends on, newest first. */
  readonly files: readonly {
    readonly table: string;
    readonly file: string;
    readonly at: Instant;
    readonly rows: string | null;
  }[];
}

export interface LoadEntry {
  readonly run: number;
  readonly state: StepState;
  readonly rowsIn: string | null;
  readonly rowsOut: string | null;
  readonly counts: LoadCounts | null;
  readonly startedAt: Instant | null;
  readonly finishedAt: Instant | null;
  readonly error: StepError | null;
  readonly environment: string;
  readonly commit: string;
  readonly kind: string;
  readonly person: string;
}
