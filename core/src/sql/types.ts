import type { Node, TypeName } from 'libpg-query';
import { strings } from './nodes.js';

/** The SQL names of PostgreSQL's internal type names. */
const SQL_NAMES: ReadonlyMap<string, string> = new Map([
  ['int2', 'smallint'],
  ['int4', 'integer'],
  ['int8', 'bigint'],
  ['float4', 'real'],
  ['float8', 'double precision'],
  ['bool', 'boolean'],
  ['bpchar', 'character'],
  ['varchar', 'character varying'],
  ['timestamptz', 'timestamp with time zone'],
  ['timestamp', 'timestamp without time zone'],
  ['timetz', 'time with time zone'],
  ['time', 'time without time zone'],
]);

/** Short forms that practitioners write, for display and for comparison. */
const SHORT: ReadonlyMap<string, string> = new Map([
  ['timestamp with time zone', 'timestamptz'],
  ['timestamp without time zone', 'timestamp'],
  ['character varying', 'varchar'],
  ['int', 'integer'],
  ['int4', 'integer'],
  ['int8', 'bigint'],
  ['decimal', 'numeric'],
]);

/** A type as written in SQL, `numeric(10,1)`, `text[]`; `pg_catalog` is left out. */
export function typeText(type: TypeName): string {
  const names = strings(type.names);
  const base = names[0] === 'pg_catalog' ? (SQL_NAMES.get(names[1]!) ?? names[1]!) : names.join('.');
  const short = SHORT.get(base) ?? base;
  const withModifiers =
    type.typmods && base !== 'interval' ? `${short}(${type.typmods.map(modifier).join(',')})` : short;
  return type.arrayBounds ? withModifiers + '[]'.repeat(type.arrayBounds.length) : withModifiers;
}

function modifier(node: Node): string {
  if (!('A_Const' in node)) return '';
  const { ival, sval, fval } = node.A_Const;
  return ival ? String(ival.ival ?? 0) : (sval?.sval ?? fval?.fval ?? '');
}

/** The short form of a type that PostgreSQL's `format_type` wrote. */
export function shortType(formatted: string): string {
  const [, base = formatted, rest = ''] = /^([a-z ]+?)(\(.*|\[\].*)?$/.exec(formatted) ?? [];
  const zoned = /^(timestamp|time)(\(\d+\))? (with|without) time zone(.*)$/.exec(formatted);
  if (zoned) return `${zoned[1]}${zoned[3] === 'with' ? 'tz' : ''}${zoned[2] ?? ''}${zoned[4] ?? ''}`;
  return (SHORT.get(base) ?? base) + rest;
}

/** Digits of the greatest value of each type of whole numbers. */
const INTEGERS: ReadonlyMap<string, number> = new Map([
  ['smallint', 5],
  ['integer', 10],
  ['bigint', 19],
]);
/** Whole numbers that each type of floating-point numbers holds exactly, and the floats that it holds. */
const FLOATS: ReadonlyMap<string, readonly string[]> = new Map([
  ['real', ['smallint']],
  ['double precision', ['smallint', 'integer', 'real']],
]);
const TEXTS = ['text', 'varchar', 'character'];
/** PostgreSQL's longest numeric that says its digits. */
const MOST_DIGITS = 1000;

/** A type's name, and its numbers in brackets; an array is a name of its own. */
export function partsOf(type: string): { name: string; sizes: number[] } {
  const [, name = type, sizes] = /^([a-z ]+)(?:\(([\d,]+)\))?$/.exec(type) ?? [];
  return { name, sizes: sizes?.split(',').map(Number) ?? [] };
}

/** Digits before and behind the point that values of a number's type may have; undefined for other types. */
function digitsOf(type: string): { before: number; behind: number } | undefined {
  const { name, sizes } = partsOf(type);
  const whole = INTEGERS.get(name);
  if (whole !== undefined) return { before: whole, behind: 0 };
  if (name !== 'numeric') return undefined;
  const [precision = Infinity, scale = precision === Infinity ? Infinity : 0] = sizes;
  return { before: precision === Infinity ? Infinity : precision - scale, behind: scale };
}

/**
 * Whether each value of one type is the same value in another: a wider number, a longer text, any type as text.
 * False where that is not known. @param from, to types in their short forms
 */
export function keepsValues(from: string, to: string): boolean {
  if (from === to || to === 'text' || to === 'varchar') return true;
  const [a, b] = [digitsOf(from), digitsOf(to)];
  if (a && b) {
    if (INTEGERS.has(from) && INTEGERS.has(to)) return a.before <= b.before;
    // Not every number with as many digits as the greatest whole number has is as small as that.
    return a.before <= b.before - (INTEGERS.has(to) ? 1 : 0) && a.behind <= b.behind;
  }
  const [one, other] = [partsOf(from), partsOf(to)];
  if (FLOATS.get(to)?.includes(from)) return true;
  if (one.name === 'varchar' && other.name === 'varchar') return (one.sizes[0] ?? Infinity) <= other.sizes[0]!;
  // Without digits of seconds, a time has all that PostgreSQL keeps.
  if (one.name === other.name && one.name.startsWith('time'))
    return (one.sizes[0] ?? Infinity) <= (other.sizes[0] ?? Infinity);
  return from === 'date' && (other.name === 'timestamp' || other.name === 'timestamptz');
}

/** Whether values of a type may be cut or refused in another one: a smaller number, a shorter text. Whole numbers are taken to fit any numeric. */
export function narrows(from: string, to: string): boolean {
  const numbers = digitsOf(from) && digitsOf(to) && (!INTEGERS.has(from) || INTEGERS.has(to));
  const texts = TEXTS.includes(partsOf(from).name) && TEXTS.slice(1).includes(partsOf(to).name);
  return Boolean(numbers || texts) && !keepsValues(from, to);
}

/**
 * The narrowest type that keeps each value of all; undefined where none does without a decision, such as numbers as text.
 * @param types in their short forms; undefined where one is not known
 */
export function unifiedType(types: readonly (string | undefined)[]): string | undefined {
  const known = [...new Set(types)];
  return known.length === 0
    ? undefined
    : known.reduce((a, b) => (a === undefined || b === undefined ? undefined : unified(a, b)));
}

function unified(a: string, b: string): string | undefined {
  if (a === b) return a;
  const texts = [a, b].filter((t) => TEXTS.includes(partsOf(t).name)).length;
  if (texts > 0) return texts === 2 ? unifiedText(a, b) : undefined;
  if (keepsValues(a, b)) return b;
  if (keepsValues(b, a)) return a;
  const [one, other] = [digitsOf(a), digitsOf(b)];
  if (FLOATS.get(WIDEST_FLOAT)!.includes(a) && FLOATS.get(WIDEST_FLOAT)!.includes(b)) return WIDEST_FLOAT;
  if (!one || !other) return undefined;
  const [before, behind] = [Math.max(one.before, other.before), Math.max(one.behind, other.behind)];
  return before + behind > MOST_DIGITS ? 'numeric' : `numeric(${before + behind},${behind})`;
}

const WIDEST_FLOAT = 'double precision';

/** Of two lengths the greater; of blanks at the end, which `character` fills up, nothing is known. */
const unifiedText = (a: string, b: string): string =>
  [a, b].every((t) => partsOf(t).name === 'varchar' && partsOf(t).sizes.length) ? (keepsValues(a, b) ? b : a) : 'text';

/** What values of a type are, as far as looks, starters and loads ask. */
export type TypeFamily = 'number' | 'date' | 'instant' | 'interval' | 'text' | 'boolean' | 'other';

const FAMILIES: ReadonlyMap<string, TypeFamily> = new Map([
  ...[...INTEGERS.keys(), ...FLOATS.keys(), 'numeric', 'money'].map((name) => [name, 'number'] as const),
  ...[...TEXTS, 'citext', 'name'].map((name) => [name, 'text'] as const),
  ['date', 'date'],
  ['timestamp', 'instant'],
  ['timestamptz', 'instant'],
  ['interval', 'interval'],
  ['boolean', 'boolean'],
]);

/** The family of a type in its short form; arrays, composites and what is not known here are `other`. */
export const familyOf = (type: string): TypeFamily => FAMILIES.get(partsOf(type).name) ?? 'other';
