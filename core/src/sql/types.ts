import type { TypeName } from 'libpg-query';

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
  const names = (type.names ?? []).map((n) => ('String' in n ? (n.String.sval ?? '') : ''));
  const base = names[0] === 'pg_catalog' ? (SQL_NAMES[names[1]!] ?? names[1]!) : names.join('.');
  const modifiers = (type.typmods ?? []).map((n) => {
    if (!('A_Const' in n)) return '';
    const c = n.A_Const;
    return c.ival ? String(c.ival.ival ?? 0) : (c.sval?.sval ?? c.fval?.fval ?? '');
  });
  const short = SHORT[base] ?? base;
  const withModifiers = modifiers.length && base !== 'interval' ? `${short}(${modifiers.join(',')})` : short;
  return withModifiers + '[]'.repeat(type.arrayBounds?.length ?? 0);
}

/** The short form of a type that PostgreSQL's `format_type` wrote. */
export function shortType(formatted: string): string {
  const [, base = formatted, rest = ''] = /^([a-z ]+?)(\(.*|\[\].*)?$/.exec(formatted) ?? [];
  const zoned = /^(timestamp|time)(\(\d+\))? (with|without) time zone(.*)$/.exec(formatted);
  if (zoned) return `${zoned[1]}${zoned[3] === 'with' ? 'tz' : ''}${zoned[2] ?? ''}${zoned[4] ?? ''}`;
  return (SHORT[base] ?? base) + rest;
}
