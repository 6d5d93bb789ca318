/** Which rows of a comparison: in production alone, in the workspace alone, or in both and different. */
export type ComparedKind = 'different' | 'only here' | 'only there';

/** How many rows a workspace's version of a table and production's have of each kind. Counts are texts: no digit is lost. */
export interface ComparedCounts {
  readonly table: string;
  /** What production calls it. */
  readonly was: string;
  /** By which rows are matched; empty where they are compared whole. */
  readonly key: readonly string[];
  readonly isSame: false;
  readonly there: string;
  readonly here: string;
  readonly onlyThere: string;
  readonly onlyHere: string;
  readonly equal: string;
  readonly different: string;
  /** Keys that a version has more than once, and their rows: these are compared whole, and are not in the counts above. */
  readonly repeated: {
    readonly keys: string;
    readonly there: string;
    readonly here: string;
    readonly equal: string;
  } | null;
  /** Columns of the workspace’s version alone, of production’s alone, and those that each load gives. */
  readonly added: readonly string[];
  readonly gone: readonly string[];
  readonly apart: readonly string[];
  /** Columns that are sensitive, and that who looks may not see. */
  readonly leftOut: readonly string[];
  /**
   * Tables of production that both were made of, and that were loaded since one of the two was: what differs may come
   * of newer rows.
   */
  readonly newer: readonly string[];
  readonly milliseconds: number;
  readonly sql: string;
}

/** A table that the workspace reads from production: there is nothing to compare, and nothing was read. */
export interface SameTable {
  readonly table: string;
  readonly isSame: true;
}

/** A value of production and of the workspace. */
export interface BeforeAfter {
  readonly before: string | null;
  readonly after: string | null;
}

export interface ComparedColumnFigures {
  readonly column: string;
  /** Rows of both versions in which it differs; null where rows are compared whole. */
  readonly differ: string | null;
  readonly nulls: BeforeAfter;
  /** Of a column with numbers. */
  readonly numbers: {
    readonly sum: BeforeAfter;
    readonly mean: BeforeAfter;
    readonly least: BeforeAfter;
    readonly greatest: BeforeAfter;
  } | null;
  /** Its most frequent changes, as far as they were counted. */
  readonly frequent: readonly (BeforeAfter & { readonly rows: string })[];
}

export interface ComparedColumns {
  /** Those that differ most first. */
  readonly columns: readonly ComparedColumnFigures[];
  readonly milliseconds: number;
}

/** The first rows of a kind. */
export interface ComparedRows {
  readonly kind: ComparedKind;
  readonly key: readonly string[];
  /** Columns besides the key; where rows are compared whole the last value of a row is how many there are of it. */
  readonly columns: readonly string[];
  /** Values of the key, then of rows that differ each column before and after, else each column. */
  readonly rows: readonly (readonly (string | null)[])[];
  readonly hasMore: boolean;
  readonly milliseconds: number;
}
