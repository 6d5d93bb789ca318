import { familyOf } from '../sql/types.js';
import type { ColumnProfile } from '../model/profile.js';
import { habitualName } from '../intake/import-tables.js';
import { plainIdent } from '../sql/quote.js';
import { condition, named, select, text, type StarterTable } from './text.js';
import { tableText } from '../sql/quote.js';

/** What becomes of one column of a source table. */
export interface CleanColumn {
  readonly from: string;
  readonly name: string;
  readonly trim?: boolean;
  /** Values that mean that there is none; '' for an empty text. */
  readonly nullTexts?: readonly string[];
  /** Codes and what they stand for; other values stay as they are. */
  readonly decode?: readonly (readonly [from: string, to: string])[];
  readonly cast?: string;
  /** What stands for a null, as text. */
  readonly fallback?: string;
}

export interface CleanChoices {
  readonly source: StarterTable;
  readonly columns: readonly CleanColumn[];
  /** Columns made from others, as SQL over the source's columns. */
  readonly derived: readonly { readonly name: string; readonly expression: string }[];
  /** Rows to take, as SQL over the source's columns. */
  readonly only?: string;
}

const isText = (type: string | undefined) => type === undefined || familyOf(type) === 'text';

/** A query with one line a column: trimmed, decoded, cast and renamed as chosen; columns not chosen are left out. */
export function cleanTable({ source, columns, derived, only }: CleanChoices): string {
  const typeOf = new Map(source.columns.map((c) => [c.name, c.type]));
  const items = [
    ...columns.map((c) => {
      const sql = named(cleaned(c, isText(typeOf.get(c.from))), c.name);
      return typeOf.get(c.from) === 'money' ? { sql, note: 'money' } : sql;
    }),
    ...derived.map((d) => `${d.expression} as ${plainIdent(d.name)}`),
  ];
  return `-- ${source.fullName}, cleaned\n${select(items, [`from ${tableText(source.fullName)}`, only ? `where ${condition(only)}` : ''])}\n`;
}

function cleaned({ from, trim, nullTexts = [], decode = [], cast, fallback }: CleanColumn, textual: boolean): string {
  let sql = plainIdent(from);
  if (trim && textual) sql = `trim(${sql})`;
  for (const none of textual ? nullTexts : []) sql = `nullif(${sql}, ${text(none)})`;
  if (decode.length)
    sql = `case ${sql} ${decode.map(([code, said]) => `when ${text(code)} then ${text(said)}`).join(' ')} else ${sql} end`;
  if (cast) sql = /^[a-z0-9_".]+$|^(trim|nullif)\(.*\)$/.test(sql) ? `${sql}::${cast}` : `cast(${sql} as ${cast})`;
  return fallback === undefined ? sql : `coalesce(${sql}, ${text(fallback)})`;
}

const DATES = /^9999-99-99$/;
const NUMBERS = /^-?[\d ]*9+(\.9+)?$/;
const NOTHING = ['', '-', '--', 'n/a', 'N/A', 'NULL', 'null', 'none', '?'];
const YES_NO = new Set(['t', 'f', 'true', 'false', 'y', 'n', 'yes', 'no', '0', '1']);

/** Proposes what to do with each column, from its name, its type, and what a profile found in it. */
export function proposeClean(source: StarterTable, profile: readonly ColumnProfile[] = []): CleanColumn[] {
  const taken = new Set<string>();
  return source.columns.map((c): CleanColumn => {
    let name = habitualName(c.name);
    for (let n = 2; taken.has(name); n++) name = `${habitualName(c.name)}_${n}`;
    taken.add(name);
    if (c.type === 'money') return { from: c.name, name, cast: 'numeric(14,2)' };
    if (!isText(c.type)) return { from: c.name, name };
    const found = profile.find((p) => p.name === c.name);
    const values = found?.frequent.map(([v]) => v) ?? [];
    const nullTexts = values.map((v) => v.trim()).filter((v, i, all) => NOTHING.includes(v) && all.indexOf(v) === i);
    const cast = castOf(
      found,
      values.map((v) => v.trim()).filter((v) => !NOTHING.includes(v)),
    );
    return {
      from: c.name,
      name,
      trim: true,
      nullTexts: nullTexts.includes('') ? nullTexts : ['', ...nullTexts],
      ...(cast ? { cast } : {}),
    };
  });
}

/** A type that all texts of a column have, as far as the profile saw them. */
function castOf(profile: ColumnProfile | undefined, values: readonly string[]): string | undefined {
  if (!profile || values.length === 0) return undefined;
  const all = profile.distinct !== null && profile.distinct <= profile.frequent.length;
  const patterns = profile.patterns?.map(([p]) => p.trim()).filter((p) => !NOTHING.includes(p)) ?? [];
  if (patterns.length === 0 || (profile.patterns?.length ?? 0) > 4) return undefined;
  if (all && values.length <= 2 && values.every((v) => YES_NO.has(v.toLowerCase()))) return 'boolean';
  if (patterns.every((p) => DATES.test(p))) return 'date';
  // A code with leading zeros is no number.
  if (patterns.every((p) => NUMBERS.test(p)) && values.every((v) => !/^-?0\d/.test(v) && v.length < 15))
    return patterns.some((p) => p.includes('.')) ? 'numeric' : 'bigint';
  return undefined;
}
