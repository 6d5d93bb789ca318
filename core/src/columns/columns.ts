import type { Node, SelectStmt } from 'libpg-query';
import { postgresql, type Catalog } from '../catalog/catalog.js';
import { textOfType } from '../catalog/type-names.js';
import type { Column } from '../model/project.js';
import { readExpression } from './expression.js';
import type { ColumnProblem } from './problem.js';
import { readQuery } from './query.js';
import { newBudget, type Around, type Reader } from './reader.js';
import { EMPTY, within, type FromItem, type RangeEntry } from './scope.js';
import { CONSTANT, Gathered, type Block, type Field, type Origins, type Step, type Value } from './value.js';

/** The columns of a query, what decides which rows it has, and what is wrong with its names. */
export interface ColumnResolution {
  /** Undefined where some cannot be known. */
  readonly columns: readonly Column[] | undefined;
  /** Columns, and `layer.table.*` for the rows of a table. */
  readonly rows: Origins;
  readonly problems: readonly ColumnProblem[];
}

/**
 * Resolves the columns of a query: names, types, what gives the value of each and what influences it. What cannot be
 * known is undefined and never reported twice.
 */
export function resolveColumns(select: SelectStmt, around: Around): ColumnResolution {
  const reader: Reader = { ...around, problems: [], budget: newBudget(), expression: readExpression, query: readQuery };
  const { fields, rows } = readQuery(reader, select, { outer: undefined, ctes: new Map() });
  return { columns: fields?.map((f) => columnOf(around.catalog, f)), rows, problems: reader.problems };
}

/** A column with the expressions that make it, and the expressions that its query's conditions are made from. */
export interface TracedColumns {
  readonly columns: readonly { readonly name: string; readonly step: Step | undefined }[] | undefined;
  readonly rows: readonly Step[];
}

/** The expressions of a query that make its columns, through the queries inside of it. */
export function traceColumns(select: SelectStmt, around: Around): TracedColumns {
  const trace = { uses: [] as Step[] };
  const reader: Reader = {
    ...around,
    problems: [],
    budget: newBudget(),
    trace,
    expression: readExpression,
    query: readQuery,
  };
  const { fields } = readQuery(reader, select, { outer: undefined, ctes: new Map() });
  return { columns: fields?.map(({ name, step }) => ({ name, step })), rows: trace.uses };
}

/** A name of a query that means a column. */
export interface ColumnMention {
  /** Where it begins, in bytes. */
  readonly location: number;
  readonly parts: readonly string[];
  readonly column: Column;
}

/** All names of a query that mean columns, each with the column. */
export function columnMentions(select: SelectStmt, around: Around): readonly ColumnMention[] {
  const found = new Map<number, ColumnMention>();
  for (const { location, parts, value } of new QueryScopes(select, around).mentions)
    found.set(location, { location, parts, column: columnOf(around.catalog, { ...value, name: parts.at(-1)! }) });
  return [...found.values()];
}

/** A name of a query with the very column of a table or of another query that it means. */
export interface Mentioned extends Pick<ColumnMention, 'location' | 'parts'> {
  readonly value: Value;
}

/** What the parts of a query see: the columns of each item of its FROM, and of each query inside of it. */
export class QueryScopes {
  private readonly found = { items: new Map<Node, FromItem>(), blocks: new Map<SelectStmt, Block>() };
  private readonly reader: Reader;
  /** All names that mean columns, in the order of reading. */
  readonly mentions: Mentioned[] = [];

  constructor(select: SelectStmt, around: Around) {
    this.reader = {
      ...around,
      problems: [],
      budget: newBudget(),
      scopes: this.found,
      watch: (location, parts, value) => this.mentions.push({ location, parts, value }),
      expression: readExpression,
      query: readQuery,
    };
    readQuery(this.reader, select, { outer: undefined, ctes: new Map() });
  }

  /** What an item of FROM brings; a join all of both sides. */
  item(node: Node): FromItem {
    return this.found.items.get(node) ?? { ranges: [], bare: [], open: true };
  }

  /** Whether a query hands on a column of a table as it is, as with `*`. */
  handsOn(select: SelectStmt, field: Field): boolean {
    return this.found.blocks.get(select)?.fields?.includes(field) ?? false;
  }

  /** The names of a query's columns, undefined where they cannot be known. */
  columns(select: SelectStmt): readonly string[] | undefined {
    return this.found.blocks.get(select)?.fields?.map((f) => f.name);
  }

  /** The key of an expression's type over items of FROM, where core can say it. */
  typeOf(node: Node, item: FromItem): string | undefined {
    const place = { scope: within(item, undefined), ctes: new Map(), windows: [], rows: new Gathered() };
    // What is asked for is no name of the query.
    const { watch: _, ...quiet } = this.reader;
    return readExpression(quiet, node, place).type?.key;
  }
}

function columnOf(catalog: Catalog, { name, type, value, influence, kind }: Field): Column {
  return { name, type: type && textOfType(catalog, type), origins: value, influence, kind };
}

/** The column names that an expression (a contract's check) mentions but `names` of tables lack. */
export function resolveExpression(
  expression: Node,
  ranges: readonly { readonly name: string; readonly columns: readonly string[] }[],
): readonly ColumnProblem[] {
  const entries = ranges.map(({ name, columns }): RangeEntry => ({
    name,
    fields: columns.map((column) => ({ ...CONSTANT, name: column })),
  }));
  const reader: Reader = {
    catalog: postgresql(),
    relation: () => undefined,
    declaredFunction: () => undefined,
    problems: [],
    budget: newBudget(),
    expression: readExpression,
    query: readQuery,
  };
  const scope = { ...EMPTY, ranges: entries, bare: entries.flatMap((e) => e.fields ?? []) };
  readExpression(reader, expression, { scope, ctes: new Map(), windows: [], rows: new Gathered() });
  return reader.problems;
}
