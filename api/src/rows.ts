import type { CastOutcome } from '@ouvrage/core/assist';
import type { RowFilter } from '@ouvrage/core/look';
import type { Profile } from '@ouvrage/core/model';

export interface Rows {
  /** `standIn` says why a column holds what stands for values that loads would give. */
  readonly columns: readonly { readonly name: string; readonly type: string; readonly standIn?: string }[];
  readonly rows: readonly (readonly (string | null)[])[];
  readonly total: number | null;
  readonly milliseconds: number;
  readonly sql: string;
  readonly inlined: readonly string[];
  /** Whether more rows would make more than an answer holds, so that fewer are shown than asked for. */
  readonly isFull: boolean;
  /** The input of which only a sample was read. */
  readonly sampled?: string;
}

/** How the values of some columns fare in casts. */
export interface CastsAnswer {
  readonly casts: readonly CastOutcome[];
  /** Where a query has more rows than are looked at: how many these are. */
  readonly rowsLookedAt: number;
  readonly milliseconds: number;
}

/** A sample of one input of a previewed query. */
export interface PreviewSample {
  readonly table: string;
  /** Share of its rows, 0 to 1; without strata. */
  readonly share?: number | undefined;
  /** Columns each combination of whose values stays, with so many rows. */
  readonly by?: readonly string[] | undefined;
  readonly each?: number | undefined;
}

export interface Look {
  readonly show: readonly string[];
  readonly filters: readonly RowFilter[];
  readonly sort: readonly { readonly column: string; readonly descending: boolean }[];
}

export interface PageAnswer {
  readonly columns: readonly { readonly name: string; readonly type: string }[];
  readonly rows: readonly (readonly (string | null)[])[];
  readonly next: readonly (string | null)[] | null;
  readonly total: { readonly rows: number; readonly exact: boolean } | null;
  readonly milliseconds: number;
  readonly where: 'here' | 'production' | 'nowhere';
  /** Columns that are sensitive, and that who looks may not see. */
  readonly leftOut?: readonly string[];
}

export interface ProfileAnswer extends Profile {
  readonly where: 'here' | 'production' | 'nowhere';
  readonly share: number;
  readonly estimatedRows: number;
  readonly milliseconds: number;
  /** Columns that are sensitive, and that who looks may not see. */
  readonly leftOut?: readonly string[];
}

export interface FaultRows {
  readonly columns: readonly string[];
  readonly rows: readonly (readonly (string | null)[])[];
}

/** A column of a query that is being written. */
export interface PreviewColumn {
  readonly name: string;
  readonly type: string;
  /** Why its values are stand-ins for what loads would give, where they are. */
  readonly standIn?: string;
}

/** The id that a file of rows is fetched by, once. */
export interface ExportTicket {
  readonly id: string;
}
