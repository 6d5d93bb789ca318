import { specOf } from '../language/spec.js';
import type { LoadSpec } from '../language/spec.js';
import { columnWith, roleOf } from '../language/roles.js';
import { lookedUpTables, inferredTables } from '../graph/looked-up.js';
import { namesIn, isFilled, helperColumns, lookedUpTable } from '../language/contract.js';
import type { ColumnDeclaration, Definition, Project } from '../model/project.js';
import { STORAGE_PARAMETERS } from '../language/options.js';
import { boundedName, formerlyBounded, ident, literal, qualified } from '../sql/quote.js';
import { NEWEST_HASHING, type Hashing } from './hashing.js';
import type { Place } from '../model/place.js';

/** A key column of a fact, and how its value is found in a dimension. */
export interface LookUp {
  readonly column: ColumnDeclaration;
  /** Columns of the query, matched in order with the dimension's business key. */
  readonly by: readonly string[];
  /** The query's column that says the time; without one the current version is taken. */
  readonly at?: string;
  readonly beforeFirst: 'first' | 'unknown';
  readonly missing: 'unknown' | 'infer' | 'stop';
  readonly dimension: Definition;
}

/** A table whose load keeps state, as its contract says it. */
export interface Target {
  readonly table: Definition;
  readonly spec: LoadSpec;
  readonly columns: readonly ColumnDeclaration[];
  readonly key: readonly string[];
  /** Columns that the query returns, in the contract's order. */
  readonly given: readonly ColumnDeclaration[];
  readonly lookUps: readonly LookUp[];
  /** Columns that the query returns only for look-ups, and to say when and in which order events are. */
  readonly extra: readonly string[];
  /** Some contract looks this table up: it has an unknown member. */
  readonly isLookedUp: boolean;
  /** Some contract has placeholders made for members that are not there yet. */
  readonly isInferred: boolean;
  /** How values of this table become hashes. */
  readonly hashing: Hashing;
}

/** Whether a look-up tells rows that are older than the first version, which they point to. */
export const tellsEarly = (l: LookUp): boolean =>
  l.at !== undefined &&
  l.beforeFirst === 'first' &&
  columnWith({ columns: l.dimension.contract?.columns ?? [] }, 'valid from') !== undefined;

/** @throws Error for a table without a contract: diagnostics refuse it before */
export function targetOf(project: Project, table: Definition, hashing: Hashing = NEWEST_HASHING): Target {
  if (!table.contract) throw new Error(`${table.fullName} has no contract`);
  const { columns } = table.contract;
  const spec = specOf(table);
  const lookUps = columns.flatMap((c) => lookUpOf(project, table, c) ?? []);
  const given = columns.filter((c) => !isFilled(c));
  return {
    table,
    spec,
    columns,
    key: spec.key,
    given,
    lookUps,
    extra: [...helperColumns(table)].filter((name) => !given.some((c) => c.name === name)),
    isLookedUp: lookedUpTables(project).has(table.fullName),
    isInferred: inferredTables(project).has(table.fullName),
    hashing,
  };
}

function lookUpOf(project: Project, table: Definition, column: ColumnDeclaration): LookUp | undefined {
  const { looked_up_by: by, at, before_first: beforeFirst, missing } = column.options;
  if (by === undefined) return undefined;
  const other = lookedUpTable(table, column.name);
  const dimension = other === undefined ? undefined : project.tables.get(other);
  if (dimension?.kind !== 'definition') return undefined;
  return {
    column,
    by: namesIn(by),
    ...(at === undefined ? {} : { at }),
    beforeFirst: beforeFirst === 'unknown' ? 'unknown' : 'first',
    missing: missing === 'infer' || missing === 'stop' ? missing : 'unknown',
    dimension,
  };
}

/**
 * What is remembered beside a table: the numbers of its rows (of a history table: of its versions), those
 * of its durable keys, the events of a history, the members that are placeholders until they arrive, what
 * rows were looked up by whose member was not found, and the greatest numbers that were ever given.
 */
export const REMEMBERED = ['keys', 'durable', 'events', 'inferred', 'asked', 'last'] as const;
export type Remembered = (typeof REMEMBERED)[number];

/** Where something is remembered: beside the table, wherever that is. */
export const rememberedPlace = (home: Place, what: Remembered): Place => ({
  schema: home.schema,
  name: boundedName(home.name, `~${what}`),
});

/** Where it stood before long names were distinguished; undefined for names that were never cut. */
export function formerRememberedPlace(home: Place, what: Remembered): Place | undefined {
  const name = formerlyBounded(home.name, `~${what}`);
  return name === undefined ? undefined : { schema: home.schema, name };
}

/** `a.x, a.y`. */
export const columnsOf = (alias: string, names: readonly string[]): string =>
  names.map((n) => `${alias}.${ident(n)}`).join(', ');

/** Types whose distinct values are counted in a third of the time that grouping takes: measured. A key of several columns or of text groups faster. */
const SORTS_FAST = /^(smallint|integer|bigint|date|timestamp|timestamptz|uuid)$/;

/** Whether distinct values of some columns are best counted by `count(distinct …)`. */
export function sortsFast(
  { columns }: { readonly columns: readonly ColumnDeclaration[] },
  names: readonly string[],
): boolean {
  return names.length === 1 && columns.some((c) => c.name === names[0] && SORTS_FAST.test(c.type));
}

/** `a.k1 = b.k1 and a.k2 = b.k2`. */
export const sameKey = (a: string, b: string, key: readonly string[]): string =>
  key.map((k) => `${a}.${ident(k)} = ${b}.${ident(k)}`).join(' and ');

/** A column's value as one that can be compared: json has no equality, jsonb has. */
export const comparable = (value: string, { type }: Pick<ColumnDeclaration, 'type'>): string =>
  type === 'json' ? `(${value})::jsonb` : value;

/** `a.x, (a.j)::jsonb`: columns of a row as they are compared. */
export const comparableColumns = (alias: string, columns: readonly ColumnDeclaration[]): string =>
  columns.map((c) => comparable(`${alias}.${ident(c.name)}`, c)).join(', ');

/** Whether any of some columns differs, null being a value; json is compared as jsonb. */
export function differ(a: string, b: string, columns: readonly ColumnDeclaration[]): string {
  if (columns.length === 0) return 'false';
  const side = (alias: string) => comparableColumns(alias, columns);
  return `(${side(a)}) is distinct from (${side(b)})`;
}

/** A table with the contract's columns and no row. */
export const emptyTable = (table: Definition, place: Place): string =>
  `create table ${qualified(place)} (\n  ${table.contract!.columns.map((c) => `${ident(c.name)} ${c.type}`).join(',\n  ')}\n)${storage(table)}`;

/** What a filled column without history holds when a row is written; undefined for others. */
export function stampOf(column: ColumnDeclaration): string | undefined {
  switch (roleOf(column)) {
    case 'loaded at':
      return once(`cast(current_setting('load.time') as ${column.type})`);
    case 'run id':
      return once(`cast(nullif(current_setting('load.run', true), '') as ${column.type})`);
    case 'deleted flag':
      return 'false';
    default:
      return undefined;
  }
}

/** The load's time as a value of a column's type. */
export const loadTime = (column: ColumnDeclaration): string =>
  once(`cast(cast(current_setting('load.time') as timestamptz) as ${column.type})`);

/** A value that is read once a statement: a setting is a text, and reading a time from it for each of a million rows takes a second. */
const once = (value: string): string => `(select ${value})`;

/** Columns of the query, looked-up keys included. */
export function writtenColumns(target: Target): ColumnDeclaration[] {
  return target.columns.filter((c) => target.given.includes(c) || target.lookUps.some((l) => l.column === c));
}

/** Storage parameters of PostgreSQL that the contract's options hold. */
export function storage(table: Definition): string {
  const options = [...(table.contract?.options ?? [])].filter(([name]) =>
    (STORAGE_PARAMETERS as readonly string[]).includes(name),
  );
  return options.length ? ` with (${options.map(([name, o]) => `${name} = ${literal(o.value)}`).join(', ')})` : '';
}
