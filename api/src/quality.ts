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
