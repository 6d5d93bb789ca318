import { ident } from '../sql/quote.js';

/**
 * Pages of a relation's rows by keyset: each page begins behind the last row of the one before, so
 * that the millionth page costs what the first does and no row is skipped where rows come and go.
 */
export interface PageRequest {
  /** What is in FROM: a qualified name, or a query in parentheses. */
  readonly source: string;
  /** All columns of the source. */
  readonly columns: readonly PageColumn[];
  /** Columns to show, in their order; all where it is empty. */
  readonly show: readonly string[];
  readonly filters: readonly RowFilter[];
  readonly sort: readonly { readonly column: string; readonly descending: boolean }[];
  /** Columns that tell rows apart; `ctid` for a table without a key, empty where nothing does. */
  readonly key: readonly string[];
  /** Values of the order's columns in the last row of the page before, as text. */
  readonly after?: readonly (string | null)[] | undefined;
  readonly limit: number;
}

export interface PageColumn {
  readonly name: string;
  readonly type: string;
}

export const FILTER_OPS = ['=', '<>', '<', '<=', '>', '>=', 'contains', 'is null', 'is not null'] as const;
export type FilterOp = (typeof FILTER_OPS)[number];

export interface RowFilter {
  readonly column: string;
  readonly op: FilterOp;
  /** As PostgreSQL writes it; nothing for `is null` and `is not null`. */
  readonly value?: string | undefined;
}

/** A statement with its parameters, all as text. */
export interface Statement {
  readonly sql: string;
  readonly values: readonly (string | null)[];
}

export interface PageStatement extends Statement {
  /** How many columns at the end of each row are the order's, for `after`. */
  readonly orderColumns: number;
}

/** The name of the column that tells equal rows apart. */
const COPY = '~copy';

/** Types without an order of their own are ordered and compared as text. */
const UNORDERED = /^(json|xml|point|line|lseg|box|path|polygon|circle|txid_snapshot|pg_snapshot)\b/;
const ordered = (column: PageColumn) =>
  UNORDERED.test(column.type) ? `cast(${ident(column.name)} as text)` : ident(column.name);
const typeOf = (column: PageColumn) => (UNORDERED.test(column.type) ? 'text' : column.type);

interface OrderItem {
  readonly sql: string;
  readonly type: string;
  readonly descending: boolean;
}

/** @throws Error for a column that the source does not have: requests are checked against it first */
export function pageStatement(request: PageRequest): PageStatement {
  const { columns, show, key, limit } = request;
  const column = (name: string): PageColumn => {
    const found = name === 'ctid' && key.includes(name) ? { name, type: 'tid' } : columns.find((c) => c.name === name);
    if (!found) throw new Error(`there is no column ${name}`);
    return found;
  };
  const order: OrderItem[] = request.sort.map(({ column: name, descending }) => ({
    sql: ordered(column(name)),
    type: typeOf(column(name)),
    descending,
  }));
  const rest = key.filter((name) => !request.sort.some((s) => s.column === name)).map(column);
  for (const c of rest) order.push({ sql: ordered(c), type: typeOf(c), descending: false });
  const parameters = new Parameters();
  let source = `${request.source} as ${ident('rows')}`;
  if (key.length === 0) {
    // Nothing tells the rows apart: equal rows are numbered, and all columns end the order.
    for (const c of columns.filter((c) => !request.sort.some((s) => s.column === c.name)))
      order.push({ sql: ordered(c), type: typeOf(c), descending: false });
    const all = columns.map(ordered).join(', ');
    const numbered = columns.length ? `row_number() over (partition by ${all})` : 'row_number() over ()';
    source = `(select *, ${numbered} as ${ident(COPY)} from ${request.source} as numbered) as ${ident('rows')}`;
    order.push({ sql: ident(COPY), type: 'bigint', descending: false });
  }
  const conditions = request.filters.map((f) => filterSql(column(f.column), f, parameters));
  if (request.after) conditions.push(behind(order, request.after, parameters));
  const shown = (show.length ? show.map(column) : columns).map((c) => ident(c.name));
  const keys = order.map((o, i) => `cast(${o.sql} as text) as ${ident(`~${i}`)}`);
  const sql = `select ${[...shown, ...keys].join(', ')}
from ${source}${where(conditions)}
order by ${order.map((o) => `${o.sql}${o.descending ? ' desc' : ''}`).join(', ')}
limit ${Math.trunc(limit)}`;
  return { sql, values: parameters.values, orderColumns: order.length };
}

/** Counts the rows that a page's filters leave. */
export function countRows(request: Pick<PageRequest, 'source' | 'columns' | 'filters'>): Statement {
  const parameters = new Parameters();
  const conditions = request.filters.map((f) =>
    filterSql(
      request.columns.find((c) => c.name === f.column)!,
      f,
      parameters,
    ),
  );
  return {
    sql: `select count(*) as n from ${request.source} as ${ident('rows')}${where(conditions)}`,
    values: parameters.values,
  };
}

/** All rows that the filters leave, in the request's order: for files. */
export function allRows(request: Omit<PageRequest, 'key' | 'after' | 'limit'>): Statement {
  const parameters = new Parameters();
  const column = (name: string) => request.columns.find((c) => c.name === name)!;
  const conditions = request.filters.map((f) => filterSql(column(f.column), f, parameters));
  const shown = request.show.length ? request.show : request.columns.map((c) => c.name);
  const order = request.sort.map((s) => `${ordered(column(s.column))}${s.descending ? ' desc' : ''}`);
  return {
    sql: `select ${shown.map(ident).join(', ')} from ${request.source} as ${ident('rows')}${where(conditions)}${order.length ? ` order by ${order.join(', ')}` : ''}`,
    values: parameters.values,
  };
}

/** Parameters of a statement, numbered as they come. */
class Parameters {
  readonly values: (string | null)[] = [];

  /** The parameter as a value of a type. */
  add(value: string | null, type: string): string {
    this.values.push(value);
    return `cast($${this.values.length}::text as ${type})`;
  }
}

const where = (conditions: readonly string[]) =>
  conditions.length ? `\nwhere ${conditions.map((c) => `(${c})`).join(' and ')}` : '';

function filterSql(column: PageColumn, filter: RowFilter, parameters: Parameters): string {
  const { op, value = '' } = filter;
  switch (op) {
    case 'is null':
    case 'is not null':
      return `${ident(column.name)} ${op}`;
    case 'contains':
      return `strpos(lower(cast(${ident(column.name)} as text)), lower(${parameters.add(value, 'text')})) > 0`;
    default:
      return `${ordered(column)} ${op} ${parameters.add(value, typeOf(column))}`;
  }
}

/**
 * Rows behind given values in an order. Ascending orders have nulls last and descending ones first,
 * as PostgreSQL's are without a word.
 */
function behind(order: readonly OrderItem[], after: readonly (string | null)[], parameters: Parameters): string {
  const alternatives: string[] = [];
  const equal: string[] = [];
  order.forEach(({ sql, type, descending }, i) => {
    const text = after[i] ?? null;
    const last = i === order.length - 1;
    if (text === null) {
      if (descending) alternatives.push([...equal, `${sql} is not null`].join(' and '));
      equal.push(`${sql} is null`);
      return;
    }
    const value = parameters.add(text, type);
    alternatives.push(
      [...equal, descending ? `${sql} < ${value}` : `(${sql} > ${value} or ${sql} is null)`].join(' and '),
    );
    if (!last) equal.push(`${sql} = ${value}`);
  });
  return alternatives.length ? alternatives.map((a) => `(${a})`).join(' or ') : 'false';
}
