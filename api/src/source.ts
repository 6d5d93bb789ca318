import type { Instant } from './instant.js';
import type { TableState } from './quality.js';
import type { StepError, StepState } from './run.js';
import type { Drift } from '@ouvrage/core/intake';

/** How late a source table is. */
export interface Lateness {
  readonly late: boolean;
  /** The instant that it is measured from: the newest watermark, or the last intake. */
  readonly since: string | null;
  /** An interval, as the declaration writes it or as it was learned. */
  readonly allowed: string;
  /** From how many days it was learned; null where it is declared. */
  readonly learnedFrom: number | null;
  /** Seconds since then; null where nothing was brought in. */
  readonly age: number | null;
  /** The interval in seconds. */
  readonly seconds: number;
}

export interface SourceSystem {
  readonly server: string;
  readonly wrapper: string;
  readonly path: string;
  readonly connection: {
    readonly host: string;
    readonly port: number;
    readonly database: string;
    readonly user: string;
  } | null;
  readonly tables: readonly {
    readonly table: string;
    readonly comment: string | null;
    readonly where: TableState['where'];
    readonly rows: string | null;
    readonly loadedAt: Instant | null;
    readonly incremental: boolean;
    /** The names of files that it takes. */
    readonly pattern: string | null;
    /** Declared as production has it: then it is brought into production, and workspaces read it from there. */
    readonly sameAsProduction: boolean;
    readonly drift: Drift | null;
    readonly comparedAt: Instant | null;
    readonly newest: string | null;
    readonly lateness: Lateness | null;
    readonly last: {
      readonly state: StepState;
      readonly rowsOut: string | null;
      readonly rowsIn: string | null;
      readonly at: Instant;
      readonly error: StepError | null;
      readonly run: number;
      readonly milliseconds: number | null;
    } | null;
  }[];
}

export interface CatalogEntry {
  readonly schema: string;
  readonly name: string;
  readonly kind: 'table' | 'view';
  readonly comment: string | null;
  readonly rows: number | null;
  readonly columns: number;
  readonly declared: string | null;
}

/** Tables of a connection, and whether the server that stands for it in the project is bound to it. */
export interface CatalogAnswer {
  readonly server: string;
  readonly isBound: boolean;
  /** Who can bind it. */
  readonly administrators: readonly string[];
  readonly tables: readonly CatalogEntry[];
}

/** How declared tables and the system's own differ, by table; null where they do not. */
export type DriftByTable = Readonly<Record<string, Drift | null>>;
