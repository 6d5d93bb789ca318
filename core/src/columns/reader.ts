import type { Node, SelectStmt } from 'libpg-query';
import type { Catalog } from '../catalog/catalog.js';
import type { SqlType } from '../catalog/type-names.js';
import type { ColumnProblem } from './problem.js';
import type { Fields, FromItem, Scope } from './scope.js';
import type { Block, Field, Gathered, Origins, Step, Value } from './value.js';

/** A table as a query reads it. */
export interface Relation {
  readonly fields: Fields;
  /** Which rows it has, as an origin. */
  readonly rows: Origins;
  /** The type of its rows, where the catalog has one. */
  readonly rowType?: string | undefined;
}

/** What a function of the project declares to return. */
export interface DeclaredFunction {
  readonly result: SqlType | undefined;
  readonly returnsSet: boolean;
  /** Of one that returns a table. */
  readonly columns: readonly { readonly name: string; readonly type: SqlType | undefined }[];
}

/** What is around the queries that are read. */
export interface Around {
  readonly catalog: Catalog;
  /** A table by its name; the layer is undefined where none is written. */
  readonly relation: (layer: string | undefined, name: string) => Relation | undefined;
  /** A function of the project by its name without the schema. */
  readonly declaredFunction: (name: string) => DeclaredFunction | undefined;
}

/** A common table expression as a name in FROM sees it. */
export interface CteEntry {
  /** Its columns: read when it is asked for, once. */
  readonly block: () => Block;
  /** Where it is asked for inside of itself: what is known of it so far. */
  readonly inside: () => { readonly block: Block; readonly extra: readonly Field[] } | undefined;
}
export type Ctes = ReadonlyMap<string, CteEntry>;

/** What an expression stands in. */
export interface Place {
  readonly scope: Scope;
  readonly ctes: Ctes;
  /** The named windows of the query. */
  readonly windows: readonly Node[];
  /** What decides which rows there are: sets that expressions return add their arguments. */
  readonly rows: Gathered;
}

/** One reading of a query: what it reads from, what it found wrong, and how what is inside of it is read. */
export interface Reader extends Around {
  readonly problems: ColumnProblem[];
  /** How many more expressions are read; what is behind is not known. */
  readonly budget: { left: number };
  /** How many recursions the query that is read stands in. */
  readonly recursions?: number;
  /** While columns are traced: the expressions that were used so far in the one that is being read. */
  readonly trace?: { uses: Step[] };
  /** Told of each name that means a column: its place in bytes, its written parts, and what it gives. */
  readonly watch?: (location: number, parts: readonly string[], value: Value) => void;
  /** Where scopes are asked for: what each item of FROM brings, and each query's columns. */
  readonly scopes?: { readonly items: Map<Node, FromItem>; readonly blocks: Map<SelectStmt, Block> };
  readonly expression: (reader: Reader, node: Node, place: Place) => Value;
  /** Reads a query in what is around it. `keepsUnknown`: constants in quotes stay without a type, as in parts of a union. */
  readonly query: (
    reader: Reader,
    select: SelectStmt,
    around: { readonly outer: Scope | undefined; readonly ctes: Ctes; readonly keepsUnknown?: boolean },
  ) => Block;
}

/** What is known of each of several expressions. */
export const readEach = (reader: Reader, nodes: readonly Node[] | undefined, place: Place): Value[] =>
  (nodes ?? []).map((node) => reader.expression(reader, node, place));

/** Keeps that an expression was used. */
export function uses(reader: Reader, value: Value): void {
  if (reader.trace && value.step) reader.trace.uses.push(value.step);
}

/** Reads what makes a column, and keeps by which expressions, where columns are traced. */
export function asStep<T extends Value>(reader: Reader, of: Pick<Step, 'name' | 'location'>, read: () => T): T {
  const { trace } = reader;
  if (!trace) return read();
  const outer = trace.uses;
  trace.uses = [];
  const value = read();
  const step = { name: of.name, location: of.location, uses: trace.uses };
  trace.uses = outer;
  return { ...value, step };
}

/** Counts columns that are taken all at once against what may be read. @returns whether there is any left */
export const spend = (reader: Reader, columns: number): boolean => (reader.budget.left -= columns) > 0;

/** More expressions than any text has that a parser takes, read a few times each. */
const MOST_READ = 1_000_000;
export const newBudget = (): Reader['budget'] => ({ left: MOST_READ });
