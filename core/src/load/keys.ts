import type { ColumnDeclaration, Definition } from '../project/model.js';
import { ident, idents, literal, qualified } from '../sql/quote.js';
import type { Place } from './place.js';
import { guard, run, type LoadStep } from './steps.js';
import { columnWith, keysPlace, optionOf, stampOf, writtenColumns, type Target } from './target.js';

/**
 * Surrogate keys. By sequence, a key map beside the table gives each key its number once and for
 * ever; a history table's map gives one to each version (business key and beginning). By hash, the
 * number is made from the key itself.
 */
export interface KeyMap {
  readonly place: Place;
  /** The surrogate key column. */
  readonly column: ColumnDeclaration;
  /** What is numbered: the business key, and the beginning of a version. */
  readonly parts: readonly ColumnDeclaration[];
  readonly method: 'sequence' | 'hash';
}

/** The key map of a target that has a surrogate key. @param home the table's final place */
export function keyMapOf(target: Target, home: Place): KeyMap | undefined {
  const name = columnWith(target, 'surrogate key');
  const column = target.columns.find((c) => c.name === name);
  if (!column) return undefined;
  const validFrom = target.table.policy === 'history' ? columnWith(target, 'valid from') : undefined;
  const parts = [...target.key, ...(validFrom === undefined ? [] : [validFrom])].map((k) => target.columns.find((c) => c.name === k)!);
  return { place: keysPlace(home), column, parts, method: optionOf(target.table, 'key_method') === 'hash' ? 'hash' : 'sequence' };
}

/** Makes the key map where there is none. */
export function createKeyMap(map: KeyMap | undefined): LoadStep[] {
  if (!map || map.method === 'hash') return [];
  const columns = map.parts.map((c) => `${ident(c.name)} ${c.type} not null`);
  return [
    run(
      'build',
      `create table if not exists ${qualified(map.place)} (\n  ${columns.join(',\n  ')},\n  number bigint not null unique,\n  primary key (${idents(map.parts.map((p) => p.name))})\n)`,
    ),
  ];
}

/** Numbers the keys of some rows that have none yet. @param from a table with the parts as columns */
export function numberKeys(map: KeyMap | undefined, from: string): LoadStep[] {
  if (!map) return [];
  const parts = map.parts.map((p) => p.name);
  if (map.method === 'hash') return hashGuards(map, from);
  const keys = qualified(map.place);
  return [
    run(
      'build',
      `insert into ${keys} (${idents(parts)}, number)
select ${idents(parts)}, (select coalesce(max(number), 0) from ${keys}) + row_number() over (order by ${idents(parts)})
from (select distinct ${idents(parts)} from ${from} as keyed) as n
where not exists (select from ${keys} as k where ${parts.map((p) => `k.${ident(p)} = n.${ident(p)}`).join(' and ')})`,
    ),
  ];
}

/** The number of a row's key, and the join that finds it. @param alias the row's alias; its columns bear the parts' names */
export function numberOf(map: KeyMap, alias: string, value: (part: string) => string = (part) => `${alias}.${ident(part)}`): { sql: string; join: string } {
  const cast = (sql: string) => (map.column.type === 'bigint' ? sql : `cast(${sql} as ${map.column.type})`);
  if (map.method === 'hash') return { sql: cast(hashOf(map.parts.map((p) => value(p.name)))), join: '' };
  return {
    sql: cast('keys.number'),
    join: `\njoin ${qualified(map.place)} as keys on ${map.parts.map((p) => `keys.${ident(p.name)} = ${value(p.name)}`).join(' and ')}`,
  };
}

/**
 * What a new row holds, in the contract's order, and the join that its number needs.
 * @param alias the row that is written; it has the columns of the query
 * @param special values of columns that this load fills in its own way
 */
export function newRow(
  target: Target,
  map: KeyMap | undefined,
  alias: string,
  special: (column: ColumnDeclaration) => string | undefined = () => undefined,
): { items: string; join: string } {
  const number = map && numberOf(map, alias);
  const written = writtenColumns(target);
  const items = target.columns.map((c) => {
    if (number && c === map.column) return `${number.sql} as ${ident(c.name)}`;
    return special(c) ?? (written.includes(c) ? `${alias}.${ident(c.name)}` : `${stampOf(c) ?? `cast(null as ${c.type})`} as ${ident(c.name)}`);
  });
  return { items: items.join(', '), join: number?.join ?? '' };
}

/** A 64-bit hash of parts, each with its length before it and a mark for null, so that no two lists look alike. */
export function hashOf(parts: readonly string[]): string {
  const text = parts.map((p) => `coalesce(length(${p}::text) || ':' || ${p}::text, '-')`).join(` || ${literal('/')} || `);
  return `hashtextextended(${text}, 0)`;
}

function hashGuards(map: KeyMap, from: string): LoadStep[] {
  const parts = map.parts.map((p) => p.name);
  const hash = hashOf(parts.map((p) => `n.${ident(p)}`));
  return [
    guard(
      `select * from (select ${idents(parts)}, number, count(*) over (partition by number) as sharing
from (select distinct ${idents(parts)}, ${hash} as number from ${from} as n) as hashed) as counted
where sharing > 1 or number = 0`,
      'keys have the same hash, or a hash of 0',
      'use key_method = sequence',
    ),
  ];
}

const NEUTRAL: readonly (readonly [RegExp, string])[] = [
  [/^(smallint|integer|bigint|numeric|real|double precision)/, '0'],
  [/^(text|varchar|character)/, "''"],
  [/^boolean/, 'false'],
  [/^date/, "'-infinity'"],
  [/^timestamp/, "'-infinity'"],
  [/^interval/, "'0'"],
  [/^uuid/, "'00000000-0000-0000-0000-000000000000'"],
  [/^jsonb?/, "'null'"],
];

/** Whether a column may be null: neither declared so nor part of a key. */
function mayBeNull(table: Definition, column: ColumnDeclaration): boolean {
  return !column.notNull && !table.contract!.constraints.some((c) => ['primary key', 'not null'].includes(c.kind) && c.columns.includes(column.name));
}

/**
 * The unknown member, key 0: what facts point to whose dimension is not known. Its values are those
 * of `options (unknown '…')`, else null, or the type's neutral value where null is not allowed.
 */
export function unknownMember(target: Target, own: Place): LoadStep[] {
  const surrogate = columnWith(target, 'surrogate key');
  if (!target.isLookedUp || surrogate === undefined) return [];
  const values = target.columns.map((c) => `cast(${unknownValue(target, c)} as ${c.type})`);
  return [
    run(
      'build',
      `insert into ${qualified(own)} (${idents(target.columns.map((c) => c.name))})
select ${values.join(', ')}
where not exists (select from ${qualified(own)} where ${ident(surrogate)} = 0)`,
    ),
  ];
}

function unknownValue(target: Target, column: ColumnDeclaration): string {
  switch (column.options['role']) {
    case 'surrogate key':
    case 'durable key':
      return '0';
    case 'valid from':
      return "'-infinity'";
    case 'valid to':
      return 'null';
    case 'current flag':
      return 'true';
    case 'version number':
      return '1';
  }
  const declared = column.options['unknown'];
  if (declared !== undefined) return literal(declared).trim();
  if (mayBeNull(target.table, column) && !target.key.includes(column.name)) return 'null';
  return NEUTRAL.find(([type]) => type.test(column.type))?.[1] ?? 'null';
}

/** Rows that are members as the source knows them: all but the unknown one. */
export function knownRows(target: Target, own: Place): string {
  const surrogate = columnWith(target, 'surrogate key');
  return surrogate !== undefined && target.isLookedUp
    ? `(select *, ctid as row_id from ${qualified(own)} where ${ident(surrogate)} <> 0)`
    : `(select *, ctid as row_id from ${qualified(own)})`;
}
