import type { SelectStmt } from 'libpg-query';
import type { Clauses, Span } from './clauses.js';
import type { Piece, Side } from './join.js';
import type { FigureName, Step, StepKind, StepLook } from './step.js';

/** A step as it is made; what is left out is empty. */
export interface Made extends Partial<Pick<Step, 'name' | 'table' | 'join' | 'key' | 'rowsOf' | 'known' | 'why'>> {
  readonly kind: StepKind;
  readonly label?: string;
  readonly span: Span;
  readonly inputs: readonly (string | undefined)[];
  readonly columns?: readonly string[] | undefined;
  readonly count?: readonly Piece[] | undefined;
  readonly looks?: readonly (Omit<StepLook, 'sql'> & { readonly pieces: readonly Piece[] })[];
}

/** Rows on their way through a query. */
export interface Flow extends Side {
  /** Undefined where it has no step of its own: it reads the rows to its left. */
  readonly last: string | undefined;
}

/** What the steps of a select behind WHERE are made with. */
export interface Kit {
  readonly add: (made: Made) => string;
  readonly ask: (gives: readonly (readonly { step: string; figure: FigureName }[])[], pieces: readonly Piece[]) => void;
  readonly clauses: Clauses;
  readonly words: (span: Span) => string;
  readonly tokenAt: (location: number | undefined) => number | undefined;
  readonly columns: (select: SelectStmt) => readonly string[] | undefined;
  readonly within: (pieces: readonly Piece[]) => Piece[];
}
