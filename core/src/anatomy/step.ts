import type { CommonTableExpr } from 'libpg-query';
import type { QueryScopes } from '../columns/columns.js';
import type { FromItem } from '../columns/scope.js';
import type { CommonTable } from '../sql/blocks.js';
import type { EditedText } from '../sql/edits.js';
import type { Range } from '../sql/positions.js';
import type { Clauses, Span } from './clauses.js';

export type StepKind = 'source' | 'join' | 'filter' | 'group' | 'window' | 'expand' | 'stack' | 'limit' | 'result';

/** What can be counted of a step. All are rows, but for those whose names say otherwise. */
export const FIGURES = [
  'rows',
  /** Of a filter: for which its condition is null; of `not in`: nulls in the list. */
  'unknown',
  'listNulls',
  /** Of a join: rows of a side, without a partner, with a null in the key. */
  'left',
  'right',
  'leftAlone',
  'rightAlone',
  'leftNull',
  'rightNull',
  /** Rows of a side that meet several of the other, and the most that one meets. */
  'leftSeveral',
  'rightSeveral',
  /** Rows on the right that rows on the left with several meet. */
  'rightPartners',
  'leftMost',
  'rightMost',
  /** Keys whose rows on one side meet several of the other. */
  'leftKeys',
  'rightKeys',
  'groups',
  'largest',
] as const;
export type FigureName = (typeof FIGURES)[number];
export type Figures = { readonly [name in FigureName]?: number };

/** Rows that a step can show. */
export interface StepLook {
  readonly name: 'rows' | 'leftAlone' | 'rightAlone' | 'keys' | 'leftRows' | 'rightRows' | 'unknown';
  /** Its first columns serve the query alone and are not shown. */
  readonly hidden: number;
  readonly sql: () => EditedText;
}

/** A step of a query, in the order in which its author wrote them: inputs before what reads them. */
export interface Step extends Range {
  /** Survives edits of other steps: the way to it, what it is, and of several alike which. */
  readonly id: string;
  readonly kind: StepKind;
  /** The author's words for it, on one line. */
  readonly label: string;
  /** The common table expression or subquery that it is the last step of. */
  readonly name?: string;
  /** How many queries it is inside of. */
  readonly depth: number;
  readonly inputs: readonly string[];
  /** The table of the project that a source reads. */
  readonly table?: string;
  /** The type of a join in words, `left` and so on. */
  readonly join?: 'inner' | 'left' | 'right' | 'full' | 'cross';
  /** The columns of a join's key, as the left side has them written. */
  readonly key?: readonly string[];
  /** It has as many rows as another step; as several together. */
  readonly rowsOf?: readonly string[];
  /** What the text alone says. */
  readonly known: Figures;
  /** Why it cannot be counted alone, or only in part. */
  readonly why?: string;
  readonly columns: readonly string[] | undefined;
  readonly looks: readonly StepLook[];
  /** A query of one number: its rows. */
  readonly count: (() => EditedText) | undefined;
}

/** A statement that returns one row of numbers, and what each of them is. */
export interface Question {
  readonly gives: readonly (readonly { readonly step: string; readonly figure: FigureName }[])[];
  readonly sql: () => EditedText;
  /** What it asks may be impossible, as of a list that reads the rows around it: a failure says nothing. */
  readonly isOptional?: boolean;
}

/** What a step is in the text, for what is made of it. */
export type StepOrigin = {
  /** What WITH says before it: one clause, several in each other, or nothing. */
  readonly before: Span | 'several' | undefined;
} & (
  | {
      readonly kind: 'cte';
      readonly name: string;
      readonly text: CommonTable;
      readonly list: readonly CommonTable[];
      readonly node: CommonTableExpr;
    }
  | { readonly kind: 'subquery'; readonly brackets: Span }
  /** Rows of FROM, with WHERE where the stretch holds it. */
  | { readonly kind: 'flow'; readonly span: Span; readonly item: FromItem }
);

export interface Anatomy {
  readonly steps: readonly Step[];
  readonly questions: readonly Question[];
  /** By the id of a step; others cannot be taken out. */
  readonly origins: ReadonlyMap<string, StepOrigin>;
  readonly clauses: Clauses;
  readonly scopes: () => QueryScopes;
}
