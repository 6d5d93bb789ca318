import type { Node, TypeName } from 'libpg-query';
import { strings } from './nodes.js';

/** The SQL names of PostgreSQL's internal type names. */
const SQL_NAMES: Readonly<Record<string, string>> = {
  int2: 'smallint',
  int4: 'integer',
  int8: 'bigint',
  float4: 'real',
  float8: 'double precision',
  bool: 'boolean',
  bpchar: 'character',
  varchar: 'character varying',
  timestamptz: 'timestamp with time zone',
  timestamp: 'timestamp without time zone',
  timetz: 'time with time zone',
  time: 'time without time zone',
};

/** Short forms that practitioners write, for display and for comparison. */
const SHORT: Readonly<Record<string, string>> = {
  'timestamp with time zone': 'timestamptz',
  'timestamp without time zone': 'timestamp',
  'character varying': 'varchar',
  int: 'integer',
  int4: 'integer',
  int8: 'bigint',
  decimal: 'numeric',
};

/** A type as written in SQL, `numeric(10,1)`, `text[]`; `pg_catalog` is left out. */
export function typeText(type: TypeName): string {
  const names = strings(type.names);
  const base = names[0] === 'pg_catalog' ? (SQL_NAMES[names[1]!] ?? names[1]!) : names.join('.');
  const short = SHORT[base] ?? base;
  const withModifiers = type.typmods && base !== 'interval' ? `${short}(${type.typmods.map(modifier).join(',')})` : short;
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
  return (SHORT[base] ?? base) + rest;
}

/** Digits of the greatest value of each type of whole numbers. */
const INTEGERS: Readonly<Record<string, number>> = { smallint: 5, integer: 10, bigint: 19 };

/** A type's name, and its numbers in brackets. */
function partsOf(type: string): { name: string; sizes: number[] } {
  const [, name = type, sizes] = /^([a-z ]+)(?:\(([\d,]+)\))?$/.exec(type) ?? [];
  return { name, sizes: sizes?.split(',').map(Number) ?? [] };
}

/** Digits before and behind the point that values of a number's type may have; undefined for other types. */
function digitsOf(type: string): { before: number; behind: number } | undefined {
  const { name, sizes } = partsOf(type);
  if (INTEGERS[name] !== undefined) return { before: INTEGERS[name], behind: 0 };
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
    if (INTEGERS[from] !== undefined && INTEGERS[to] !== undefined) return a.before <= b.before;
    // Not every number with as many digits as the greatest whole number has is as small as that.
    return a.before <= b.before - (INTEGERS[to] === undefined ? 0 : 1) && a.behind <= b.behind;
  }
  const [texts, longer] = [partsOf(from), partsOf(to)];
  if (texts.name === 'varchar' && longer.name === 'varchar') return (texts.sizes[0] ?? Infinity) <= longer.sizes[0]!;
  return from === 'date' && (to === 'timestamp' || to === 'timestamptz');
}

/** Whether values of a type may be cut or refused in another one: a smaller number, a shorter text. Whole numbers are taken to fit any numeric. */
export function narrows(from: string, to: string): boolean {
  const numbers = digitsOf(from) && digitsOf(to) && (INTEGERS[from] === undefined || INTEGERS[to] !== undefined);
  const texts = ['text', 'varchar', 'character'].includes(partsOf(from).name) && ['varchar', 'character'].includes(partsOf(to).name);
  return Boolean(numbers || texts) && !keepsValues(from, to);
}
