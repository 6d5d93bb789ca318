import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js';

/**
 * Quoting: the one place where names and values become SQL text. Everything that assembles SQL goes
 * through these functions.
 */

/** A name as a quoted identifier. */
export function ident(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** Words that PostgreSQL reads as no name where a name is meant. */
const RESERVED = new Set(
  `all analyse analyze and any array as asc asymmetric authorization between bigint binary bit boolean both case cast char character check coalesce
collate collation column concurrently constraint create cross current_catalog current_date current_role current_schema current_time current_timestamp
current_user dec decimal default deferrable desc distinct do else end except exists extract false fetch float for foreign freeze from full grant greatest
group grouping having ilike in initially inner inout int integer intersect interval into is isnull join lateral leading least left like limit localtime
localtimestamp national natural nchar none normalize not notnull null nullif numeric offset on only or order out outer overlaps overlay placing position
precision primary real references returning right row select session_user setof similar smallint some substring symmetric system_user table tablesample
then time timestamp to trailing treat trim true union unique user using values varchar variadic verbose when where window with xmlattributes xmlconcat
xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot xmlserialize xmltable`.split(/\s+/),
);

/** A name as people write it: quoted only where it has to be. For text that becomes a file of the author's. */
export function plainIdent(name: string): string {
  return /^[a-z_][a-z0-9_]*$/.test(name) && !RESERVED.has(name) ? name : ident(name);
}

/** A name with its schema. */
export function qualified(place: { readonly schema: string; readonly name: string }): string {
  return `${ident(place.schema)}.${ident(place.name)}`;
}

/** A list of names, separated by commas. */
export function idents(names: readonly string[]): string {
  return names.map(ident).join(', ');
}

/** A text value as a string constant; safe whatever `standard_conforming_strings` says. */
export function literal(value: string): string {
  const quoted = `'${value.replaceAll("'", "''")}'`;
  return value.includes('\\') ? `E${quoted.replaceAll('\\', '\\\\')}` : quoted;
}

/** PostgreSQL's longest name, in bytes. */
const LONGEST_NAME = 63;
/** Hexadecimal digits of the hash that a cut name bears. */
const HASH_DIGITS = 8;

/** A name of 63 bytes at most. `mark` is kept; where the name has to be cut, a hash of the whole tells it apart from others. */
export function boundedName(name: string, mark = ''): string {
  if ((name.length + mark.length) * 3 <= LONGEST_NAME) return name + mark; // no character takes more than three bytes a unit
  if (utf8Length(name) + utf8Length(mark) <= LONGEST_NAME) return name + mark;
  const end = `~${bytesToHex(sha256(utf8ToBytes(name))).slice(0, HASH_DIGITS)}${mark}`;
  return cutToBytes(name, LONGEST_NAME - utf8Length(end)) + end;
}

/** Whether a name is as long as names may be, so that it may have been cut. */
export const isLongest = (name: string): boolean => utf8Length(name) === LONGEST_NAME;

/** How `boundedName` cut names before it knew hashes; undefined where it did not cut. */
export function formerlyBounded(name: string, mark: string): string | undefined {
  return utf8Length(name) + utf8Length(mark) <= LONGEST_NAME
    ? undefined
    : cutToBytes(name, LONGEST_NAME - utf8Length(mark)) + mark;
}

/**
 * The name that PostgreSQL makes for a constraint or index that has none: `table_columns_label`, the
 * longer of the two parts cut, byte by byte, until all fits into 63 (its makeObjectName).
 */
export function objectName(table: string, columns: string, label: string): string {
  const available = 63 - utf8Length(label) - (columns === '' ? 1 : 2);
  let [first, second] = [utf8Length(table), utf8Length(columns)];
  while (first + second > available) {
    if (first > second) first--;
    else second--;
  }
  const named = columns === '' ? '' : `_${cutToBytes(columns, second)}`;
  return `${cutToBytes(table, first)}${named}_${label}`;
}

function cutToBytes(text: string, most: number): string {
  let kept = text;
  while (utf8Length(kept) > most) kept = kept.slice(0, -1);
  return kept;
}

function utf8Length(text: string): number {
  if (/^[\x00-\x7f]*$/.test(text)) return text.length;
  let bytes = 0;
  for (const symbol of text) {
    const code = symbol.codePointAt(0)!;
    bytes += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
  }
  return bytes;
}

/** `landing.call` with quotes where a part needs them. */
export const tableText = (fullName: string): string => fullName.split('.').map(plainIdent).join('.');
