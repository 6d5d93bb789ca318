import { csvText, readCsv, readDelimited, type CsvField } from '../index/csv.js';
import { valueProblem } from '../language/value-problem.js';
import { literal, plainIdent } from '../sql/quote.js';
import { detectDecimal, detectDelimiter, withPoint } from './delivery.js';
import { habitualNames } from './import-tables.js';
import type { ReferenceColumn } from './reference-values.js';

/** A column of a file that becomes a reference table. */
export interface UploadColumn extends Omit<ReferenceColumn, 'type'> {
  /** As the file has it. */
  readonly from: string;
  readonly type: string;
  readonly comment?: string;
}

export interface Upload {
  readonly columns: readonly UploadColumn[];
  readonly rows: readonly (readonly CsvField[])[];
  /** Lines of the file that are no rows: nothing can be made of it before they are mended. */
  readonly broken: readonly { readonly line: number; readonly message: string }[];
}

/** The narrowest first: the first that all values have is proposed. */
const PROPOSED = ['integer', 'bigint', 'numeric', 'date', 'timestamptz', 'boolean'] as const;
/** Texts that PostgreSQL takes as a truth value and people write as numbers. */
const TRUTHS = /^(t|f|true|false|yes|no)$/i;

/**
 * Reads a file that somebody has, and proposes a table: names by habit, the narrowest type that all values of a column
 * have, never null where none is missing, the first column that tells the rows apart as key.
 * @param text with commas, semicolons or tabs between fields, the names in the first line
 */
export function proposeUpload(text: string): Upload {
  const delimiter = detectDelimiter(text.split(/\r\n|\n|\r/, 1)[0] ?? '');
  const { header, rows, problems } = delimiter === ',' ? readCsv(text) : readDelimited(text, delimiter);
  const names = habitualNames(header.map((h, i) => (h === '' ? `column_${i + 1}` : h)));
  const values = header.map((_, i) => withPoints(rows.map((r) => r[i] ?? null)));
  const isKey = values.map((of) => of.length > 0 && !of.includes(null) && new Set(of).size === of.length);
  const key = isKey.indexOf(true);
  const columns = header.map((from, i): UploadColumn => ({
    from,
    name: names[i]!,
    type: typeOf(values[i]!),
    notNull: !values[i]!.includes(null) && rows.length > 0,
    isKey: i === key,
  }));
  return { columns, rows: rows.map((_, r) => values.map((of) => of[r]!)), broken: problems };
}

/** Numbers of a column with a comma as their decimal sign, as numbers of PostgreSQL. */
function withPoints(values: readonly CsvField[]): readonly CsvField[] {
  const some = values.filter((v) => v !== null);
  if (detectDecimal(some) !== ',') return values;
  const pointed = values.map((v) => (v === null ? null : withPoint(v)));
  return pointed.every((v) => v === null || valueProblem('numeric', v) === undefined) ? pointed : values;
}

function typeOf(values: readonly CsvField[]): string {
  const some = values.filter((v) => v !== null);
  if (some.length === 0) return 'text';
  // A code with leading zeros is no number.
  if (some.some((v) => /^[-+]?0\d/.test(v))) return dateOrText(some);
  return (
    PROPOSED.find((type) =>
      some.every((v) => (type === 'boolean' ? TRUTHS.test(v) : valueProblem(type, v) === undefined)),
    ) ?? 'text'
  );
}

const dateOrText = (values: readonly string[]): string =>
  (['date', 'timestamptz'] as const).find((type) => values.every((v) => valueProblem(type, v) === undefined)) ?? 'text';

/** The contract and the rows of a reference table, as files of the project. */
export function uploadTexts(
  table: string,
  { columns, rows }: Pick<Upload, 'columns' | 'rows'>,
): { readonly sql: string; readonly csv: string } {
  const key = columns.filter((c) => c.isKey).map((c) => plainIdent(c.name));
  const lines = [
    ...columns.map((c) => `  ${plainIdent(c.name)} ${c.type}${c.notNull && !c.isKey ? ' not null' : ''}`),
    ...(key.length ? [`  primary key (${key.join(', ')})`] : []),
  ];
  const comments = columns.flatMap((c) =>
    c.comment ? [`comment on column ${table}.${plainIdent(c.name)} is ${literal(c.comment)};\n`] : [],
  );
  return {
    sql: `create table ${table} (\n${lines.join(',\n')}\n);\n${comments.join('')}`,
    csv: csvText(
      columns.map((c) => c.name),
      rows.map((r) => columns.map((_, i) => r[i] ?? null)),
    ),
  };
}

/** Rows of a file in the order of a table's columns, found by name; columns without values are null. */
export function rowsFor(
  header: readonly string[],
  { columns, rows, broken }: Upload,
): { readonly rows: Upload['rows']; readonly leftOut: readonly string[] } | { readonly problem: string } {
  if (broken[0]) return { problem: `line ${broken[0].line}: ${broken[0].message}` };
  const places = header.map((name) => columns.findIndex((c) => c.from === name || c.name === name));
  if (places.every((p) => p < 0))
    return { problem: `none of its columns is ${header.join(', ')}: the first line has to name them` };
  return {
    rows: rows.map((row) => places.map((p) => (p < 0 ? null : (row[p] ?? null)))),
    leftOut: columns.flatMap((c, i) => (places.includes(i) ? [] : [c.from])),
  };
}
