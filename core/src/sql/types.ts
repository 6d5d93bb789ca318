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
