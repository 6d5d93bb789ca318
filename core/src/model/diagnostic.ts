import type { Range } from '../sql/positions.js';

export type DiagnosticCode =
  | 'syntax'
  /** Told by the database, which was asked to prepare the statement. */
  | 'database'
  | 'statement-not-allowed'
  /** Something in a query, a check or a function does more than read. */
  | 'not-only-reading'
  | 'no-query'
  | 'name-mismatch'
  | 'unknown-layer'
  | 'table-without-layer'
  | 'unknown-table'
  | 'unknown-column'
  | 'ambiguous-column'
  | 'unknown-function'
  | 'unknown-parameter'
  | 'unknown-option'
  | 'bad-option'
  | 'later-layer'
  | 'cycle'
  | 'duplicate-table'
  | 'duplicate-column'
  | 'too-many-columns'
  | 'unnamed-column'
  /** A fault of the program in reading one file: the file is left out. */
  | 'unreadable'
  | 'contract-column'
  /** A load that lacks something, or has what it cannot use. */
  | 'policy'
  | 'bad-reference-file'
  | 'misplaced-file';

/** Something wrong in a file of the project. A value, never thrown. */
export interface Diagnostic {
  readonly code: DiagnosticCode;
  readonly severity: 'error' | 'warning';
  readonly path: string;
  readonly range: Range;
  readonly message: string;
  /** What to do about it. */
  readonly hint?: string;
  readonly related?: readonly { readonly path: string; readonly range: Range; readonly message: string }[];
}

/** An error at a place of a file. */
export const errorAt = (
  { path, range }: Pick<Diagnostic, 'path' | 'range'>,
  code: DiagnosticCode,
  message: string,
  more: { readonly hint?: string | undefined; readonly related?: Diagnostic['related'] } = {},
): Diagnostic => ({
  code,
  severity: 'error',
  path,
  range,
  message,
  ...(more.hint ? { hint: more.hint } : {}),
  ...(more.related ? { related: more.related } : {}),
});
