import { columnOption } from '../language/contract.js';
import { columnWith, hasRole, roleOf } from '../language/roles.js';
import type { ColumnDeclaration, Definition } from '../model/project.js';
import { ident, idents, literal, qualified } from '../sql/quote.js';
import { createKeyMaps, filledValue, keyMapsOf, numberKeys, numbersOf, surrogateMap } from './keys.js';
import type { Place } from '../model/place.js';
import { counts, dropTemporary, ROWS, run, type LoadStep } from '../compile/steps.js';
import { columnsOf, rememberedPlace, sameKey, type Target } from '../compile/target.js';

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
  return (
    !column.notNull &&
    !table.contract!.constraints.some(
      (c) => ['primary key', 'not null'].includes(c.kind) && c.columns.includes(column.name),
    )
  );
}

/**
 * What a column holds in a member that the source does not know: the values of `options (unknown '…')`,
 * else null, or the type's neutral value where null is not allowed. A history's member holds for all time.
 */
function memberValue(target: Target, column: ColumnDeclaration): string {
  switch (roleOf(column)) {
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
    default:
      break;
  }
  const declared = columnOption(column, 'unknown');
  if (declared !== undefined) return literal(declared);
  if (mayBeNull(target.table, column) && !target.key.includes(column.name)) return 'null';
  return NEUTRAL.find(([type]) => type.test(column.type))?.[1] ?? 'null';
}

const memberItem = (target: Target, c: ColumnDeclaration): string =>
  hasRole(c, 'row hash')
    ? filledValue(target, c, (of) => `cast(${memberValue(target, of)} as ${of.type})`)
    : `cast(${memberValue(target, c)} as ${c.type})`;

/** Last in a load: the unknown member, key 0, and the placeholders that still stand for nobody. */
export function lastMembers(target: Target, places: { readonly own: Place; readonly home: Place }): LoadStep[] {
  return [...unknownMember(target, places.own), ...(target.isInferred ? [placeholderRows(target, places)] : [])];
}

/** The items of the unknown member, in the contract's order. */
export const unknownMemberItems = (target: Target): string[] =>
  target.columns.map((c) => `${memberItem(target, c)} as ${ident(c.name)}`);

/** The unknown member: what facts point to whose dimension is not known. */
export function unknownMember(target: Target, own: Place): LoadStep[] {
  const surrogate = columnWith(target, 'surrogate key');
  if (!target.isLookedUp || surrogate === undefined) return [];
  return [
    run(
      'build',
      `insert into ${qualified(own)} (${idents(target.columns.map((c) => c.name))})
select ${target.columns.map((c) => memberItem(target, c)).join(', ')}
where not exists (select from ${qualified(own)} where ${ident(surrogate)} = 0)`,
    ),
  ];
}

/** Members that the source knows: neither the unknown one nor a placeholder. */
export function knownRows(target: Target, places: { readonly own: Place; readonly home: Place }): string {
  const surrogate = columnWith(target, 'surrogate key');
  const conditions = [
    ...(surrogate !== undefined && target.isLookedUp ? [`m.${ident(surrogate)} <> 0`] : []),
    ...(target.isInferred
      ? [
          `not exists (select from ${qualified(rememberedPlace(places.home, 'inferred'))} as i where ${sameKey('i', 'm', target.key)})`,
        ]
      : []),
  ];
  return `(select *, ctid as row_id$ from ${qualified(places.own)} as m${conditions.length ? ` where ${conditions.join(' and ')}` : ''})`;
}

/** Makes the list of a table's placeholders, by business key, and keeps everyone else from it until the load has ended. */
function inferredList(target: Target, home: Place): LoadStep[] {
  const columns = target.key.map((k) => `${ident(k)} ${target.columns.find((c) => c.name === k)!.type} not null`);
  const list = qualified(rememberedPlace(home, 'inferred'));
  return [
    run(
      'build',
      `create table if not exists ${list} (\n  ${columns.join(',\n  ')},\n  primary key (${idents(target.key)})\n)`,
    ),
    run('session', `lock table ${list} in share row exclusive mode`),
  ];
}

/**
 * Before a load: placeholders whose member the query now returns make room for it. The member adopts
 * the placeholder's number; of a history, the number goes to the version that begins first.
 * @param begins of a history: when the first version of a row `q` begins
 * @param taken a condition over `q` and an empty `t`: which of the query's rows the load will take
 */
export function completeMembers(
  target: Target,
  places: { readonly own: Place; readonly home: Place },
  begins?: string,
  taken = 'true',
): LoadStep[] {
  if (!target.isInferred) return [];
  const { own, home } = places;
  const list = qualified(rememberedPlace(home, 'inferred'));
  const map = surrogateMap(target, home);
  const validFrom = columnWith(target, 'valid from');
  const key = columnsOf('q', target.key);
  const moves =
    map?.method === 'sequence' && begins !== undefined && validFrom !== undefined
      ? [
          run(
            'build',
            `update ${qualified(map.place)} as k set ${ident(validFrom)} = c.begins$
from pg_temp.completed as c where ${sameKey('k', 'c', target.key)} and k.${ident(validFrom)} = '-infinity'`,
          ),
        ]
      : [];
  return [
    ...inferredList(target, home),
    run(
      'build',
      `create temp table completed on commit drop as
select ${key}${begins === undefined ? '' : `, min(${begins}) as begins$`}
from ${ROWS} as q join ${list} as i on ${sameKey('i', 'q', target.key)}${taken === 'true' ? '' : `\nleft join (select * from ${qualified(own)} where false) as t on true`}
where ${taken}
group by ${key}`,
    ),
    run(
      'build',
      `delete from ${qualified(own)} as t using pg_temp.completed as c where ${sameKey('t', 'c', target.key)}`,
    ),
    ...moves,
    run('build', `delete from ${list} as i using pg_temp.completed as c where ${sameKey('i', 'c', target.key)}`),
    counts('pg_temp.completed', { completed: 'true' }),
    dropTemporary('pg_temp.completed'),
  ];
}

/** Rows for the placeholders of the list that have none. */
function placeholderRows(target: Target, { own, home }: { readonly own: Place; readonly home: Place }): LoadStep {
  const validFrom = columnWith(target, 'valid from');
  const numbers = numbersOf(keyMapsOf(target, home), 'i', (part) =>
    part === validFrom ? "'-infinity'" : `i.${ident(part)}`,
  );
  const items = target.columns.map(
    (c) => numbers.of(c) ?? (target.key.includes(c.name) ? `i.${ident(c.name)}` : memberItem(target, c)),
  );
  return run(
    'build',
    `insert into ${qualified(own)} (${idents(target.columns.map((c) => c.name))})
select ${items.join(', ')}
from ${qualified(rememberedPlace(home, 'inferred'))} as i${numbers.join}
where not exists (select from ${qualified(own)} as t where ${sameKey('t', 'i', target.key)})`,
  );
}

/**
 * Makes placeholders in a dimension for keys that it does not know.
 * @param wanted a query of the keys, its columns named as the dimension's business key
 */
export function inferMembers(
  dimension: Target,
  places: { readonly own: Place; readonly home: Place },
  wanted: string,
): LoadStep[] {
  const list = qualified(rememberedPlace(places.home, 'inferred'));
  const maps = keyMapsOf(dimension, places.home);
  const validFrom = columnWith(dimension, 'valid from');
  return [
    ...inferredList(dimension, places.home),
    run('session', `lock table ${qualified(places.own)} in share row exclusive mode`),
    run(
      'build',
      `insert into ${list} (${idents(dimension.key)})
select ${columnsOf('w', dimension.key)} from (${wanted}) as w
where not exists (select from ${qualified(places.own)} as t where ${sameKey('t', 'w', dimension.key)})
on conflict do nothing`,
    ),
    ...createKeyMaps(maps),
    ...numberKeys(
      maps,
      `(select ${idents(dimension.key)}${validFrom === undefined ? '' : `, cast('-infinity' as ${dimension.columns.find((c) => c.name === validFrom)!.type}) as ${ident(validFrom)}`} from ${list})`,
    ),
    placeholderRows(dimension, places),
  ];
}
