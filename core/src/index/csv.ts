import { CsvError, parse, type Info, type Options } from 'csv-parse/sync';

/** A field of a CSV file: null is an unquoted empty field. */
export type CsvField = string | null;

export interface CsvProblem {
  readonly line: number;
  readonly message: string;
}

export interface Csv {
  readonly header: readonly string[];
  readonly rows: readonly (readonly CsvField[])[];
  /** The line, from 1, that each row begins on. */
  readonly lines: readonly number[];
  readonly problems: readonly CsvProblem[];
}

/** Lines end as any system ends them, also several in one file. */
const LINE_ENDS = ['\r\n', '\n', '\r'];

const PROBLEMS: Readonly<Record<string, string>> = {
  CSV_QUOTE_NOT_CLOSED: 'a quote is opened and not closed',
  CSV_INVALID_CLOSING_QUOTE: 'there is text after a closing quote',
  INVALID_OPENING_QUOTE: 'a quote inside a field: put the whole field in quotes, and double the quote',
};

/** A record as the library gives it: its fields, and the text that it was read from. */
interface Found {
  readonly record: string[];
  readonly raw: string;
  readonly info: Info;
}

const OPTIONS: Options = {
  bom: true,
  record_delimiter: LINE_ENDS,
  skip_empty_lines: true,
  relax_column_count: true,
};

const NO_ROWS = { header: [], rows: [], lines: [] };

/** Reads a CSV text as RFC 4180 has it: commas, double quotes, a header row. A text whose quotes are wrong has no rows. */
export function readCsv(text: string): Csv {
  let records: { readonly record: readonly CsvField[]; readonly line: number }[];
  try {
    const found = parse(text, { ...OPTIONS, raw: true, info: true }) as unknown as readonly Found[];
    records = found.map(({ record, raw, info }) => ({
      record: withNulls(record, raw),
      line: info.lines - breaksIn(record),
    }));
  } catch (error) {
    if (!(error instanceof CsvError)) throw error;
    return brokenAt(error);
  }
  const [head, ...rows] = records;
  const header = (head?.record ?? []).map((f) => f ?? '');
  const problems = rows
    .filter(({ record }) => record.length !== header.length)
    .map(({ record, line }) => ({
      line,
      message: `the line has ${record.length} fields, the header ${header.length}`,
    }));
  return { header, rows: rows.map((r) => r.record), lines: rows.map((r) => r.line), problems };
}

function brokenAt(error: CsvError): Csv {
  const { code, lines = 1 } = error as CsvError & { readonly lines?: number };
  return { ...NO_ROWS, problems: [{ line: lines, message: PROBLEMS[code] ?? error.message }] };
}

/** A comma and the field behind it, in a record that is known to be well formed. */
const FIELD = /,(?:"[^"]*(?:""[^"]*)*"|[^,]*)/g;

/** Empty fields are null unless quoted, which the record's own text tells: asking the library for each field takes ten times as long. */
function withNulls(record: readonly string[], raw: string): readonly CsvField[] {
  if (!record.includes('')) return record;
  const written = raw.includes('""') ? `,${raw.replace(/^[\r\n]+/, '')}`.match(FIELD) : null;
  return record.map((field, i) => (field === '' && written?.[i]?.[1] !== '"' ? null : field));
}

/** Line breaks within the fields of a record. */
const breaksIn = (record: readonly string[]): number =>
  record.reduce((n, field) => n + (/[\r\n]/.test(field) ? field.match(/\r\n|\r|\n/g)!.length : 0), 0);

/** One field as RFC 4180 has it: nothing for a null, quotes for an empty text. */
export function csvField(value: CsvField): string {
  if (value === null) return '';
  return value === '' || /[",\r\n]/.test(value) ? `"${value.replaceAll('"', '""')}"` : value;
}

/** Where the fields of a CSV's header are in its text, quotes included. */
export function headerFields(text: string): { readonly start: number; readonly end: number }[] {
  const [line] = /^[^\r\n]*/.exec(text)!;
  return [...line.matchAll(/(?<=^|,)(?:"[^"]*(?:""[^"]*)*"|[^,]*)/g)].map(({ index, 0: field }) => ({
    start: index,
    end: index + field.length,
  }));
}

/** A CSV text with a header row; a null is an empty field, an empty text is quoted. Reading it gives the same again. */
export function csvText(header: readonly string[], rows: readonly (readonly CsvField[])[]): string {
  // A line of one null alone would be read as no line at all.
  const line = (fields: readonly CsvField[]) =>
    fields.length === 1 && fields[0] === null ? '""' : fields.map(csvField).join(',');
  return [header, ...rows].map((r) => `${line(r)}\n`).join('');
}

/** A text as `readCsv` reads it, with another sign between fields; every empty field is null. */
export function readDelimited(text: string, delimiter: string): Csv {
  try {
    const [header = [], ...rows] = parse(text, { ...OPTIONS, delimiter }) as string[][];
    const readable = rows.map((r) => r.map((f) => (f === '' ? null : f)));
    return readCsv(csvText(header, readable));
  } catch (error) {
    if (!(error instanceof CsvError)) throw error;
    return brokenAt(error);
  }
}

/** Text copied out of a spreadsheet: lines of cells with tabs between; a cell with a break in it is quoted. */
export const readPasted = (text: string): string[][] =>
  parse(text, {
    delimiter: '\t',
    record_delimiter: LINE_ENDS,
    relax_column_count: true,
    relax_quotes: true,
  });
