import type { Node, TypeName } from 'libpg-query';
import { strings } from '../sql/nodes.js';
import type { Catalog } from './catalog.js';
import { baseOf } from './coercion.js';

/** A type as the catalogs know it, with its modifier as it is written, `(6,1)`. */
export interface SqlType {
  readonly key: string;
  readonly mod: string;
}

const NAMES: readonly (readonly [key: string, ...texts: string[]])[] = [
  ['int2', 'smallint'],
  ['int4', 'integer', 'int'],
  ['int8', 'bigint'],
  ['float4', 'real'],
  ['float8', 'double precision'],
  ['bool', 'boolean'],
  ['numeric', 'numeric', 'decimal'],
  ['varchar', 'varchar', 'character varying'],
  ['bpchar', 'character'],
  ['timestamp', 'timestamp', 'timestamp without time zone'],
  ['timestamptz', 'timestamptz', 'timestamp with time zone'],
  ['time', 'time', 'time without time zone'],
  ['timetz', 'timetz', 'time with time zone'],
  ['varbit', 'bit varying'],
  ['char', '"char"'],
];
const TEXTS: ReadonlyMap<string, string> = new Map(NAMES.map(([key, text]) => [key, text!] as const));
const KEYS: ReadonlyMap<string, string> = new Map(
  NAMES.flatMap(([key, ...texts]) => [...texts, key].map((text) => [text, key] as const)),
);

const simple = new Map<string, SqlType>();
/** A type without more to it; the same object each time. */
export function typeOfKey(key: string, mod = ''): SqlType {
  const name = key + mod;
  let found = simple.get(name);
  if (!found) simple.set(name, (found = { key, mod }));
  return found;
}

/** A type from its short form, `numeric(6,1)[]`. */
export function typeOfText(text: string): SqlType {
  const [, written = text, brackets = ''] = /^(.*?)((?:\[\d*\])*)$/.exec(text) ?? [];
  const isInterval = /^interval\b/.test(written);
  const [, base = written, mod = ''] = isInterval
    ? (/^(interval)(.*)$/.exec(written) ?? [])
    : (/^(.*?)\s*(\([^)]*\))?$/.exec(written) ?? []);
  const key = KEYS.get(base) ?? base;
  if (brackets) return typeOfKey(arrayKey(key), mod);
  return typeOfKey(key, mod === '' && written === 'character' ? '(1)' : mod);
}

const arrayKey = (key: string) => {
  const dot = key.lastIndexOf('.');
  return `${key.slice(0, dot + 1)}_${key.slice(dot + 1)}`;
};

/** The short form of a type, as contracts write it. */
export function textOfType(catalog: Catalog, type: SqlType): string {
  const found = catalog.type(type.key);
  if (found?.element && /(^|\.)_/.test(type.key)) return `${textOfType(catalog, typeOfKey(found.element, type.mod))}[]`;
  if (type.key === 'bpchar') return type.mod ? `character${type.mod}` : 'bpchar';
  if (type.key === 'bit') return type.mod ? `bit${type.mod}` : '"bit"';
  return (TEXTS.get(type.key) ?? type.key) + type.mod;
}

/** Names of fields of an interval, by the bits that the grammar gives. */
const INTERVAL_FIELDS: ReadonlyMap<number, string> = new Map([
  [4, ' year'],
  [2, ' month'],
  [8, ' day'],
  [1024, ' hour'],
  [2048, ' minute'],
  [4096, ' second'],
  [6, ' year to month'],
  [1032, ' day to hour'],
  [3080, ' day to minute'],
  [7176, ' day to second'],
  [3072, ' hour to minute'],
  [7168, ' hour to second'],
  [6144, ' minute to second'],
]);

/** A type as the parser read it; undefined where the catalog does not know the name. */
export function typeOfName(catalog: Catalog, type: TypeName): SqlType | undefined {
  const names = strings(type.names);
  const name = names[0] === 'pg_catalog' ? names[1]! : names.join('.');
  const found = catalog.type(name);
  const mods = (type.typmods ?? []).map(modifierOf);
  const isArray = (type.arrayBounds?.length ?? 0) > 0;
  const key = found ? found.key : name;
  if (!isArray) return typeOfKey(key, modText(baseOf(catalog, key), mods));
  const array = found ? found.array : arrayKey(name);
  return array === undefined ? undefined : typeOfKey(array, modText(key, mods));
}

function modText(key: string, mods: readonly string[]): string {
  if (key === 'interval') {
    if (mods.length === 0) return '';
    const fields = INTERVAL_FIELDS.get(Number(mods[0])) ?? '';
    return mods.length > 1 ? `${fields}(${Math.min(6, Number(mods[1]))})` : fields;
  }
  if (mods.length === 0) return '';
  if (key === 'numeric') return mods.length === 1 ? `(${mods[0]},0)` : `(${mods.join(',')})`;
  if (key.startsWith('time')) return `(${Math.min(6, Number(mods[0]))})`;
  return `(${mods.join(',')})`;
}

function modifierOf(node: Node): string {
  if ('A_Expr' in node && node.A_Expr.rexpr) return `-${modifierOf(node.A_Expr.rexpr)}`;
  if ('ColumnRef' in node) return strings(node.ColumnRef.fields).join('.');
  if (!('A_Const' in node)) return '';
  const { ival, sval, fval } = node.A_Const;
  return ival ? String(ival.ival ?? 0) : (sval?.sval ?? fval?.fval ?? '');
}
