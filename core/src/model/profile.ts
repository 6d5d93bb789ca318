/** What a column's values look like. */
export interface ColumnProfile {
  readonly name: string;
  readonly type: string;
  readonly shape: ColumnShape;
  readonly nulls: number;
  /** Null for a type without equality. */
  readonly distinct: number | null;
  /** As text; null where all values are null or the type has no order. */
  readonly least: string | null;
  readonly greatest: string | null;
  readonly mean: string | null;
  /** At 0.05, 0.25, 0.5, 0.75 and 0.95, as text. */
  readonly quantiles: readonly string[] | null;
  /** The most frequent values with their counts. */
  readonly frequent: readonly (readonly [value: string, count: number])[];
  /** Counts of equal steps between least and greatest, empty steps left out; `step` counts from 0. */
  readonly histogram: readonly (readonly [step: number, count: number])[] | null;
  readonly lengths: { readonly least: number; readonly mean: string; readonly greatest: number } | null;
  /** Texts with letters as `a` and digits as `9`, the most frequent with their counts. */
  readonly patterns: readonly (readonly [pattern: string, count: number])[] | null;
}

export type ColumnShape = 'number' | 'instant' | 'text' | 'boolean' | 'other';

export interface Profile {
  readonly rows: number;
  readonly columns: readonly ColumnProfile[];
}
