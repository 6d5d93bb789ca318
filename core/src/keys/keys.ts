import { keepsVersions } from '../language/spec.js';
import { columnWith, columnOf, hasRole } from '../language/roles.js';
import type { ColumnDeclaration } from '../model/project.js';
import { ident, idents, qualified } from '../sql/quote.js';
import { hashOf, joinedParts, type Hashing } from '../compile/hashing.js';
import type { Place } from '../model/place.js';
import { checking, guard, run, type LoadStep } from '../compile/steps.js';
import { comparable, rememberedPlace, stampOf, writtenColumns, type Target } from '../compile/target.js';

/**
 * Surrogate and durable keys. By sequence, a key map beside the table gives each key its number once and
 * for ever; the surrogate key of a history table numbers versions (business key and beginning), its
 * durable key the business key. By hash, the number is made from the key itself.
 */
export interface KeyMap {
  readonly place: Place;
  /** The column that holds the number. */
  readonly column: ColumnDeclaration;
  /** What is numbered: the business key, and the beginning of a version. */
  readonly parts: readonly ColumnDeclaration[];
  readonly method: 'sequence' | 'hash';
  /** How keys become hashes, where they do. */
  readonly hashing: Hashing;
  /** What the map is called in the statements that join it. */
  readonly alias: 'keys' | 'durable';
  /** Where the greatest number that was ever given stands, apart from the map. */
  readonly last: Place;
}

/** The key maps of a target: of its surrogate key, of its durable key. @param home the table's final place */
export function keyMapsOf(target: Target, home: Place): KeyMap[] {
  const validFrom = keepsVersions(target.spec) ? columnWith(target, 'valid from') : undefined;
  const method = target.spec.keyMethod;
  const kinds = [
    ['surrogate key', 'keys', validFrom === undefined ? [] : [validFrom]],
    ['durable key', 'durable', []],
  ] as const;
  return kinds.flatMap(([role, what, more]): KeyMap[] => {
    const column = columnOf(target.columns, role);
    const parts = [...target.key, ...more].map((k) => target.columns.find((c) => c.name === k)!);
    return column
      ? [
          {
            place: rememberedPlace(home, what),
            column,
            parts,
            method,
            hashing: target.hashing,
            alias: what,
            last: rememberedPlace(home, 'last'),
          },
        ]
      : [];
  });
}

/** The map of a target's surrogate key. */
export const surrogateMap = (target: Target, home: Place): KeyMap | undefined =>
  keyMapsOf(target, home).find((m) => m.alias === 'keys');

/** The map's column of numbers: it bears a name of its own where a part is called so. */
export const numberIn = (map: Pick<KeyMap, 'parts'>): string =>
  map.parts.some((p) => p.name === 'number') ? 'number$' : 'number';

/** Makes the key maps that are not there. */
export const createKeyMaps = (maps: readonly KeyMap[]): LoadStep[] =>
  maps
    .filter((m) => m.method === 'sequence')
    .flatMap((map) => [run('build', keyMapTable(map)), run('build', lastNumbersTable(map.last))]);

export function keyMapTable(map: KeyMap): string {
  const columns = map.parts.map((c) => `${ident(c.name)} ${c.type} not null`);
  return `create table if not exists ${qualified(map.place)} (\n  ${columns.join(',\n  ')},\n  ${numberIn(map)} bigint not null unique,\n  primary key (${idents(map.parts.map((p) => p.name))})\n)`;
}

/** The table of the greatest numbers that a table's maps ever gave: they outlive the maps, so that no number comes to mean someone else. */
export const lastNumbersTable = (last: Place): string =>
  `create table if not exists ${qualified(last)} (map text primary key, number bigint not null)`;

/** Keeps the greatest number of a map. @param column the map's column of numbers */
export const keepLastNumber = (last: Place, alias: KeyMap['alias'], map: Place, column: string): string =>
  `insert into ${qualified(last)} as l (map, number)
select '${alias}', given from (select max(${column}) as given from ${qualified(map)}) as m where given is not null
on conflict (map) do update set number = excluded.number where l.number < excluded.number`;

/** Takes the numbers that rows have into the maps that gave them. @param table rows with the parts and the numbers */
export function adoptNumbers(maps: readonly KeyMap[], table: Place): string[] {
  return maps
    .filter((m) => m.method === 'sequence')
    .flatMap((map) => {
      const [parts, number] = [idents(map.parts.map((p) => p.name)), ident(map.column.name)];
      return [
        keyMapTable(map),
        lastNumbersTable(map.last),
        `insert into ${qualified(map.place)} (${parts}, ${numberIn(map)})
select distinct ${parts}, ${number} from ${qualified(table)} where ${number} <> 0`,
        keepLastNumber(map.last, map.alias, map.place, numberIn(map)),
      ];
    });
}

/** Numbers keys that have none yet, above all that were ever given, and keeps the greatest. @param from as of `numberKeys` */
export function numbering(map: KeyMap, from: string): string[] {
  const [keys, parts, number] = [qualified(map.place), map.parts.map((p) => p.name), numberIn(map)];
  const greatest = `greatest(0, (select max(${number}) from ${keys}), (select l.number from ${qualified(map.last)} as l where l.map = '${map.alias}'))`;
  return [
    `insert into ${keys} (${idents(parts)}, ${number})
select ${idents(parts)}, ${greatest} + row_number() over (order by ${idents(parts)})
from (select distinct ${idents(parts)} from ${from} as keyed) as n
where not exists (select from ${keys} as k where ${parts.map((p) => `k.${ident(p)} = n.${ident(p)}`).join(' and ')})`,
    keepLastNumber(map.last, map.alias, map.place, number),
  ];
}

/** Numbers the keys of some rows that have none yet. @param from a table with the parts as columns */
export function numberKeys(maps: readonly KeyMap[], from: string): LoadStep[] {
  return maps.flatMap((map) => {
    const parts = map.parts.map((p) => p.name);
    if (map.method === 'hash') return hashGuards(map, from);
    const known = [...new Set(parts)].map((p) => `n.${ident(p)} is null`).join(' or ');
    return [
      checking(
        'key_map_is_complete',
        guard(
          `select * from ${from} as n where ${known}`,
          `rows without ${parts.join(', ')} cannot be numbered`,
          'Filter them out in the query, or give them a value.',
        ),
      ),
      ...numbering(map, from).map((sql) => run('build', sql)),
    ];
  });
}

/** The numbers of a row, and the joins that find them. */
export interface RowNumbers {
  /** The number that a column holds; undefined for other columns. */
  readonly of: (column: ColumnDeclaration) => string | undefined;
  readonly join: string;
}

/** @param alias the row's alias; its columns bear the parts' names, unless `value` says what stands for one */
export function numbersOf(
  maps: readonly KeyMap[],
  alias: string,
  value: (part: string) => string = (part) => `${alias}.${ident(part)}`,
): RowNumbers {
  return {
    of: (column) => {
      const map = maps.find((m) => m.column === column);
      if (!map) return undefined;
      const sql =
        map.method === 'hash'
          ? hashOf(
              map.parts.map((p) => ({ value: value(p.name), type: p.type })),
              map.hashing,
            )
          : `${map.alias}.${numberIn(map)}`;
      return map.column.type === 'bigint' ? sql : `cast(${sql} as ${map.column.type})`;
    },
    join: maps
      .filter((m) => m.method === 'sequence')
      .map(
        (m) =>
          `\njoin ${qualified(m.place)} as ${m.alias} on ${m.parts.map((p) => `${m.alias}.${ident(p.name)} = ${value(p.name)}`).join(' and ')}`,
      )
      .join(''),
  };
}

/**
 * What a new row holds, in the contract's order, and the joins that its numbers need.
 * @param alias the row that is written; it has the columns of the query
 * @param special values of columns that this load fills in its own way
 */
export function newRow(
  target: Target,
  maps: readonly KeyMap[],
  alias: string,
  special: (column: ColumnDeclaration) => string | undefined = () => undefined,
): { items: string; join: string } {
  const numbers = numbersOf(maps, alias);
  const written = writtenColumns(target);
  const ofQuery = (c: ColumnDeclaration) => `${alias}.${ident(c.name)}`;
  const items = target.columns.map((c) => {
    const value = numbers.of(c) ?? special(c) ?? (written.includes(c) ? ofQuery(c) : filledValue(target, c, ofQuery));
    return `${value} as ${ident(c.name)}`;
  });
  return { items: items.join(', '), join: numbers.join };
}

/** What a column that the load fills without looking at history holds in a row. @param value a column's value in that row */
export function filledValue(
  target: Target,
  column: ColumnDeclaration,
  value: (column: ColumnDeclaration) => string,
): string {
  return hasRole(column, 'row hash')
    ? rowHash(target, column, value)
    : (stampOf(column) ?? `cast(null as ${column.type})`);
}

/** A hash of all that the query gives but for the business key, in the type of its column. @param value a column's value in the row */
export function rowHash(
  target: Target,
  column: ColumnDeclaration,
  value: (column: ColumnDeclaration) => string,
): string {
  const parts = joinedParts(
    writtenColumns(target)
      .filter((c) => !target.key.includes(c.name))
      .map((c) => ({ value: comparable(value(c), c), type: c.type === 'json' ? 'jsonb' : c.type })),
    target.hashing,
  );
  if (/^(bigint|numeric)/.test(column.type)) return `cast(hashtextextended(${parts}, 0) as ${column.type})`;
  return column.type === 'bytea' ? `sha256(convert_to(${parts}, 'UTF8'))` : `cast(md5(${parts}) as ${column.type})`;
}

function hashGuards(map: KeyMap, from: string): LoadStep[] {
  const parts = map.parts.map((p) => p.name);
  const hash = hashOf(
    map.parts.map((p) => ({ value: `n.${ident(p.name)}`, type: p.type })),
    map.hashing,
  );
  return [
    guard(
      `select * from (select ${idents(parts)}, number$, count(*) over (partition by number$) as sharing$
from (select distinct ${idents(parts)}, ${hash} as number$ from ${from} as n) as hashed) as counted
where sharing$ > 1 or number$ = 0`,
      'keys have the same hash, or a hash of 0',
      'use key_method = sequence',
    ),
  ];
}
