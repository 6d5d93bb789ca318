import type { Range } from '../sql/positions.js';
import type { LoadPolicy } from './load-policy.js';

/** A name that means nothing, and the one that was probably meant. */
interface WrongName {
  readonly name: string;
  readonly nearest?: string | undefined;
}

type Nothing = unknown;

/** What a diagnostic of each code carries beside its place and its words. */
export interface DiagnosticPayloads {
  readonly syntax: Nothing;
  /** Reported by the database, which was asked to prepare the statement. */
  readonly database: Nothing;
  readonly 'statement-not-allowed': Nothing;
  /** Something in a query, a check or a function does more than read. */
  readonly 'not-only-reading': Nothing;
  readonly 'no-query': Nothing;
  readonly 'name-mismatch': { readonly expected: string };
  readonly 'unknown-layer': WrongName;
  /** @property candidates full names of tables that have this name */
  readonly 'table-without-layer': { readonly name: string; readonly candidates: readonly string[] };
  readonly 'unknown-table': WrongName;
  readonly 'unknown-column': WrongName;
  readonly 'ambiguous-column': { readonly name: string; readonly tables: readonly string[] };
  readonly 'unknown-function': WrongName;
  readonly 'unknown-parameter': WrongName;
  readonly 'unknown-option': WrongName;
  readonly 'bad-option': { readonly option: string };
  readonly 'later-layer': { readonly table: string };
  /** @property tables the members in order */
  readonly cycle: { readonly tables: readonly string[] };
  readonly 'duplicate-table': { readonly table: string };
  readonly 'duplicate-column': { readonly name: string };
  readonly 'too-many-columns': { readonly columns: number };
  readonly 'columns-differ': { readonly counts: readonly [number, number] };
  readonly 'unnamed-column': Nothing;
  /** An aggregate or a window function where there can be none. */
  readonly 'misplaced-call': { readonly name: string };
  /** A column of a grouped query that stands for several values. */
  readonly 'not-grouped': { readonly name: string };
  readonly recursion: { readonly name: string };
  /** A fault of the program in reading one file: the file is left out. */
  readonly unreadable: Nothing;
  readonly 'contract-column': { readonly name?: string; readonly nearest?: string | undefined };
  /** A load that lacks something, or has what it cannot use. */
  readonly policy: { readonly policy: LoadPolicy };
  readonly 'bad-reference-file': { readonly line?: number };
  readonly 'misplaced-file': Nothing;
  /** Something in a job. */
  readonly job: Nothing;
  /** Something in a worked example. */
  readonly example: Nothing;
}
export type DiagnosticCode = keyof DiagnosticPayloads;

/** What is wrong, without its place: a code with what belongs to it, the words, and what to do. */
export type Finding<C extends DiagnosticCode = DiagnosticCode> = {
  [K in C]: {
    readonly code: K;
    readonly message: string;
    /** What to do about it. */
    readonly hint?: string | undefined;
  } & DiagnosticPayloads[K];
}[C];

/** A place in a file of the project. */
export interface FilePlace {
  readonly path: string;
  readonly range: Range;
}

/** Something wrong in a file of the project. A value, never thrown. */
export type Diagnostic = Finding &
  FilePlace & {
    readonly severity: 'error' | 'warning';
    readonly related?: readonly (FilePlace & { readonly message: string })[];
  };

/** An error at a place of a file. */
export const errorAt = ({ path, range }: FilePlace, finding: Finding): Diagnostic => ({
  ...withoutUndefined(finding),
  severity: 'error',
  path,
  range,
});

/** Something at a place of a file that is worth a look and stops nothing. */
export const warningAt = (place: FilePlace, finding: Finding): Diagnostic => ({
  ...errorAt(place, finding),
  severity: 'warning',
});

const withoutUndefined = <T extends object>(value: T): T =>
  Object.fromEntries(Object.entries(value).filter(([, v]) => v !== undefined)) as T;
