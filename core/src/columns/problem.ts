/** An aggregate or a window function where PostgreSQL takes none. */
export interface MisplacedCall {
  readonly name: string;
  readonly what: 'aggregate' | 'window';
  readonly clause: 'where' | 'on' | 'group by' | 'having' | 'aggregate' | 'window';
}

/** What is wrong with the names of a query, at a byte of its text. */
export type ColumnProblem = { readonly location: number } & (
  | { readonly kind: 'unknown'; readonly parts: readonly string[]; readonly names: readonly string[] }
  | { readonly kind: 'ambiguous'; readonly parts: readonly string[]; readonly tables: readonly string[] }
  | { readonly kind: 'unknown-range'; readonly parts: readonly string[]; readonly names: readonly string[] }
  | { readonly kind: 'arms'; readonly left: number; readonly right: number }
  | ({ readonly kind: 'misplaced' } & MisplacedCall)
  | { readonly kind: 'ungrouped'; readonly parts: readonly string[] }
  | { readonly kind: 'recursion'; readonly name: string; readonly fault: 'no-union' | 'first-part' | 'twice' }
  /** A column that SEARCH or CYCLE names. */
  | { readonly kind: 'mark'; readonly name: string; readonly names: readonly string[] }
  | { readonly kind: 'alias'; readonly name: string }
  | { readonly kind: 'names'; readonly table: string; readonly given: number; readonly columns: number }
  | {
      readonly kind: 'using';
      readonly name: string;
      readonly tables: readonly string[];
      readonly names: readonly string[];
    }
);
