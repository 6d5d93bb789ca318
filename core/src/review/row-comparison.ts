import { ident, literal } from '../sql/quote.js';
import { familyOf } from '../sql/types.js';
import type { Member } from './row-key.js';

/** A column as the warehouse has it. */
export interface ComparedColumn {
  readonly name: string;
  readonly type: string;
  /** No row has null in it, as its table promises. */
  readonly isNotNull?: boolean;
}

/** One of the two versions of a table. */
export interface ComparedSide {
  /** What is in FROM: a qualified name, or a query in parentheses. */
  readonly from: string;
  readonly columns: readonly ComparedColumn[];
  /** What is in FROM for the tables that columns refer to, by the referring column; none where both versions read the same one. */
  readonly members: ReadonlyMap<string, string>;
}

export interface RowsCompared {
  /** Before and after: production, and the workspace. */
  readonly there: ComparedSide;
  readonly here: ComparedSide;
  /** Empty where rows are compared whole. */
  readonly key: readonly string[];
  readonly apart: readonly string[];
  readonly members: readonly Member[];
}

/** A column of both versions whose values are compared. */
export interface SharedColumn {
  readonly name: string;
  /** The type as it is here. */
  readonly type: string;
  /** Its values are numbers in both versions. */
  readonly isNumber: boolean;
  /** It is compared as text: the types differ, or have no equality. */
  readonly isText: boolean;
  /** No row of either version has null in it. */
  readonly isNotNull: boolean;
}

/** What of two versions is compared. */
export interface ComparisonShape {
  /** The key that both versions have; empty where rows are compared whole. */
  readonly key: readonly SharedColumn[];
  /** Columns of both besides the key. */
  readonly shared: readonly SharedColumn[];
  readonly added: readonly string[];
  readonly gone: readonly string[];
  readonly apart: readonly string[];
}

/** Types that have no equality of their own. */
const NO_EQUALITY = /^(json|xml|point|line|lseg|box|path|polygon|circle|txid_snapshot|pg_snapshot)\b/;
/** The type without its length. */
const bare = (type: string) => type.replace(/\(.*?\)/g, '');
const isNumber = (type: string) => familyOf(type) === 'number';

export function comparisonShape({ there, here, key, apart }: RowsCompared): ComparisonShape {
  const before = new Map(there.columns.map((c) => [c.name, c]));
  const after = new Set(here.columns.map((c) => c.name));
  const shared = here.columns.flatMap(({ name, type, isNotNull = false }): SharedColumn[] => {
    const other = before.get(name);
    if (other === undefined) return [];
    const was = other.type;
    const areNumbers = isNumber(was) && isNumber(type);
    const isText = here.members.has(name) || NO_EQUALITY.test(type) || (bare(was) !== bare(type) && !areNumbers);
    return [
      {
        name,
        type,
        isNumber: areNumbers && !here.members.has(name),
        isText,
        isNotNull: isNotNull && other.isNotNull === true,
      },
    ];
  });
  const of = (name: string) => shared.find((c) => c.name === name);
  const found = key.map(of);
  const keys = found.every((c) => c !== undefined) ? (found as SharedColumn[]) : [];
  const isKey = new Set(keys.map((c) => c.name));
  return {
    key: keys,
    shared: shared.filter((c) => !isKey.has(c.name) && !apart.includes(c.name)),
    added: here.columns.flatMap((c) => (before.has(c.name) ? [] : [c.name])),
    gone: there.columns.flatMap((c) => (after.has(c.name) ? [] : [c.name])),
    apart: shared.filter((c) => apart.includes(c.name)).map((c) => c.name),
  };
}

/** A row of either version is in it. */
const IN = ident('~in');

/** One version's columns that are compared, as they are compared, each named by its place. */
function sideQuery(compared: RowsCompared, side: ComparedSide, columns: readonly SharedColumn[]): string {
  const joins: string[] = [];
  const items = columns.map((c, i) => {
    const value = `s.${ident(c.name)}`;
    const member = compared.members.find((m) => m.column === c.name);
    const from = side.members.get(c.name);
    if (!member || from === undefined) return `${c.isText ? `cast(${value} as text)` : value} as c${i}`;
    const meaning = member.meaning.map((name) => `m${i}.${ident(name)}`).join(', ');
    joins.push(`left join ${from} as m${i} on m${i}.${ident(member.number)} = ${value}`);
    // A number without its row says what it is itself.
    return `case when m${i}.${ident(member.number)} is null then cast(${value} as text) else concat_ws(', ', ${meaning}) end as c${i}`;
  });
  return `select ${['true as ' + IN, ...items].join(', ')}\n  from ${[`${side.from} as s`, ...joins].join('\n  ')}`;
}

const NEUTRAL: Readonly<Record<string, string>> = {
  number: '0',
  text: "''",
  boolean: 'false',
  date: "'epoch'",
  instant: "'epoch'",
};

const names = (columns: readonly SharedColumn[], side = '') =>
  columns.map((_, i) => `${side && `${side}.`}c${i}`).join(', ');

/** The condition that the rows of two relations have one key, in a form that PostgreSQL can hash; null agrees with null. */
function sameKey(key: readonly SharedColumn[], a: string, b: string): string {
  return key
    .map((c, i) => {
      if (c.isNotNull) return `${a}.c${i} = ${b}.c${i}`;
      const neutral = NEUTRAL[c.isText ? 'text' : familyOf(c.type)];
      const value = (of: string) =>
        neutral === undefined ? `coalesce(cast(${of}.c${i} as text), '')` : `coalesce(${of}.c${i}, ${neutral})`;
      return `${value(a)} = ${value(b)} and (${a}.c${i} is null) = (${b}.c${i} is null)`;
    })
    .join(' and ');
}

/** Whether no key is twice in either version. */
export interface Uniqueness {
  readonly isUnique: boolean;
}

/** Both versions as `t` and `h`, without the keys that one of them has twice: those are `r`, of `t0` and `h0`. */
function versions(compared: RowsCompared, { key, shared }: ComparisonShape, { isUnique }: Uniqueness): string {
  const columns = [...key, ...shared];
  const [t, h] = [sideQuery(compared, compared.there, columns), sideQuery(compared, compared.here, columns)];
  if (isUnique) return `with t as (${t}),\nh as (${h})`;
  const twice = (of: string) => `select ${names(key)} from ${of} group by ${names(key)} having count(*) > 1`;
  const without = (of: string) =>
    `select * from ${of}0 as s where not exists (select from r where ${sameKey(key, 'r', 's')})`;
  return `with t0 as (${t}),\nh0 as (${h}),\nr as (${twice('t0')} union ${twice('h0')}),\nt as (${without('t')}),\nh as (${without('h')})`;
}

const SIDE_BY_SIDE = (key: readonly SharedColumn[]) => `from t full join h on ${sameKey(key, 't', 'h')}`;

/** Conditions on the rows of both versions side by side, and what counts the rows of each. */
function presence({ key }: ComparisonShape) {
  // A part of the key that is never null says whether a row is there; reading one column less is quicker.
  const known = key.findIndex((c) => c.isNotNull);
  const [t, h] = known < 0 ? [`t.${IN}`, `h.${IN}`] : [`t.c${known}`, `h.c${known}`];
  return { t, h, inBoth: `${t} is not null and ${h} is not null`, onlyThere: `${h} is null`, onlyHere: `${t} is null` };
}

/** Conditions that a shared column differs, by its place. */
const differs = ({ key, shared }: ComparisonShape) =>
  shared.map((_, i) => `t.c${key.length + i} is distinct from h.c${key.length + i}`);
const anyDiffers = (shape: ComparisonShape): string => {
  const all = differs(shape);
  return all.length === 0 ? 'false' : `(${all.join(' or ')})`;
};

/** How many rows each version has of each kind. Its columns: there, here, only there, only here, equal, different. */
export function countRowKinds(compared: RowsCompared, shape: ComparisonShape, unique: Uniqueness): string {
  if (shape.key.length === 0) return countWhole(compared, shape);
  const { t, h, inBoth, onlyThere, onlyHere } = presence(shape);
  const different = `count(*) filter (where ${inBoth} and ${anyDiffers(shape)})`;
  return `${versions(compared, shape, unique)}
select count(${t}) as there, count(${h}) as here, count(*) filter (where ${onlyThere}) as only_there,
       count(*) filter (where ${onlyHere}) as only_here,
       count(*) filter (where ${inBoth}) - ${different} as equal,
       ${different} as different
${SIDE_BY_SIDE(shape.key)}`;
}

/** Rows as multisets: a row that is three times here and once there is once equal and twice only here. */
const counted = (t: string, h: string, columns: readonly SharedColumn[]) => {
  const list = columns.length > 0 ? names(columns) : 'true';
  return `select ${columns.length > 0 ? `${names(columns)}, ` : ''}count(*) filter (where side = 0) as there, count(*) filter (where side = 1) as here
      from (select 0 as side${columns.length > 0 ? `, ${names(columns)}` : ''} from ${t} union all select 1${columns.length > 0 ? `, ${names(columns)}` : ''} from ${h}) as both_versions
      group by ${list}`;
};

function countWhole(compared: RowsCompared, shape: ComparisonShape): string {
  return `${versions(compared, shape, { isUnique: true })}
select coalesce(sum(there), 0) as there, coalesce(sum(here), 0) as here, coalesce(sum(greatest(there - here, 0)), 0) as only_there,
       coalesce(sum(greatest(here - there, 0)), 0) as only_here, coalesce(sum(least(there, here)), 0) as equal, 0 as different
from (${counted('t', 'h', shape.shared)}) as whole_rows`;
}

/** How many keys are in one version more than once. Its columns: keys there, keys here. */
export function countRepeated(compared: RowsCompared, shape: ComparisonShape): string {
  const twice = (of: string) =>
    `(select count(*) from (select from ${of} group by ${names(shape.key)} having count(*) > 1) as twice)`;
  const only = { ...shape, shared: [] };
  return `${versions(compared, only, { isUnique: true })}\nselect ${twice('t')} as there, ${twice('h')} as here`;
}

/** Rows of keys that one version has more than once, as multisets. Its columns: keys, there, here, equal. */
export function compareRepeated(compared: RowsCompared, shape: ComparisonShape): string {
  const { key, shared } = shape;
  const of = (side: string) =>
    `(select s.* from ${side} as s where exists (select from r where ${sameKey(key, 'r', 's')})) as repeated`;
  return `${versions(compared, shape, { isUnique: false })}
select (select count(*) from r) as keys, coalesce(sum(there), 0) as there, coalesce(sum(here), 0) as here, coalesce(sum(least(there, here)), 0) as equal
from (${counted(of('t0'), of('h0'), [...key, ...shared])}) as whole_rows`;
}

/** What is counted of each shared column, in this order. */
export const COLUMN_FIGURES = ['differ', 'nulls there', 'nulls here'] as const;
/** And of one with numbers. */
export const NUMBER_FIGURES = [
  'sum there',
  'sum here',
  'mean there',
  'mean here',
  'least there',
  'least here',
  'greatest there',
  'greatest here',
] as const;

/** Figures of all shared columns in one row, in the order of the columns. */
export function columnFigures(compared: RowsCompared, shape: ComparisonShape, unique: Uniqueness): string {
  const { key, shared } = shape;
  const { t: inT, h: inH, inBoth } = presence(shape);
  const different = differs(shape);
  const figures = shared.flatMap(({ isNumber: hasNumbers }, i) => {
    const [t, h] = [`t.c${key.length + i}`, `h.c${key.length + i}`];
    const plain = [
      key.length > 0 ? `count(*) filter (where ${inBoth} and ${different[i]!})` : 'null',
      `count(${inT}) - count(${t})`,
      `count(${inH}) - count(${h})`,
    ];
    const ofNumbers = ['sum', 'avg', 'min', 'max'].flatMap((f) => [`${f}(${t})`, `${f}(${h})`]);
    return hasNumbers ? [...plain, ...ofNumbers] : plain;
  });
  const from = key.length > 0 ? SIDE_BY_SIDE(key) : 'from t full join h on false';
  const select = figures.length > 0 ? figures.map((f, i) => `${f} as f${i}`).join(',\n       ') : 'null as f0';
  return `${versions(compared, shape, unique)}\nselect ${select}\n${from}`;
}

/** The most frequent changes of some columns. Its columns: the column's name, before, after, rows. */
export function frequentChanges(
  compared: RowsCompared,
  shape: ComparisonShape,
  { isUnique, of, most }: Uniqueness & { readonly of: readonly string[]; readonly most: number },
): string {
  const { key, shared } = shape;
  const asked = shared.flatMap((c, i) => (of.includes(c.name) ? [{ name: c.name, at: key.length + i }] : []));
  const each = asked.map(
    ({ name, at }) =>
      `(select ${literal(name)} as name, cast(t${at} as text) as before, cast(h${at} as text) as after, count(*) as n from changed where t${at} is distinct from h${at} group by t${at}, h${at} order by n desc, 2, 3 limit ${most})`,
  );
  const taken = asked.flatMap(({ at }) => [`t.c${at} as t${at}`, `h.c${at} as h${at}`]);
  return `${versions(compared, shape, { isUnique })},
changed as materialized (select ${taken.join(', ')}
from t join h on ${sameKey(key, 't', 'h')} where ${asked.map(({ at }) => `t.c${at} is distinct from h.c${at}`).join(' or ')})
${each.join('\nunion all\n')}`;
}

/** Rows of which kind. */
export type RowKind = 'only there' | 'only here' | 'different';

/**
 * The first rows of a kind, in the order of their key. The columns of each row are the key and, of rows in both
 * versions, each shared column before and after; else the shared columns.
 * @param most all of them, where it is not said
 * @param column of rows that differ: only those that do in this one
 */
export function rowsOfKind(
  compared: RowsCompared,
  shape: ComparisonShape,
  {
    isUnique,
    kind,
    most,
    column,
  }: Uniqueness & { readonly kind: RowKind; readonly most?: number; readonly column?: string },
): string {
  const { key, shared } = shape;
  const limit = most === undefined ? '' : ` limit ${most}`;
  if (key.length === 0) {
    const count = kind === 'only here' ? 'here - there' : 'there - here';
    return `${versions(compared, shape, { isUnique: true })}
select ${[...named(shared), `${count} as ${ident('rows')}`].join(', ')}
from (${counted('t', 'h', shared)}) as whole_rows where ${kind === 'different' ? 'false' : `${count} > 0`} order by ${names(shared) || '1'}${limit}`;
  }
  const side = kind === 'only there' ? 't' : 'h';
  const at = (i: number) => key.length + i;
  const values =
    kind === 'different'
      ? shared.flatMap((c, i) => [
          `t.c${at(i)} as ${ident(`${c.name} in production`)}`,
          `h.c${at(i)} as ${ident(`${c.name} here`)}`,
        ])
      : shared.map((c, i) => `${side}.c${at(i)} as ${ident(c.name)}`);
  const one = column === undefined ? undefined : differs(shape)[shared.findIndex((c) => c.name === column)];
  const { inBoth, onlyThere, onlyHere } = presence(shape);
  const condition =
    kind === 'only there' ? onlyThere : kind === 'only here' ? onlyHere : `${inBoth} and ${one ?? anyDiffers(shape)}`;
  return `${versions(compared, shape, { isUnique })}
select ${[...key.map((c, i) => `${side}.c${i} as ${ident(c.name)}`), ...values].join(', ')}
${SIDE_BY_SIDE(key)}
where ${condition}
order by ${names(key, side)}${limit}`;
}

const named = (columns: readonly SharedColumn[]) => columns.map((c, i) => `c${i} as ${ident(c.name)}`);
