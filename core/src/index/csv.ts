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

/** Reads a CSV text as RFC 4180 has it: commas, double quotes, a header row. */
export function readCsv(text: string): Csv {
  const records: { line: number; fields: CsvField[] }[] = [];
  const problems: CsvProblem[] = [];
  const source = text.charCodeAt(0) === 0xfeff ? text.slice(1) : text;
  let at = 0;
  let line = 1;
  while (at < source.length) {
    const record = { line, fields: [] as CsvField[] };
    for (;;) {
      let value = '';
      let quoted = false;
      if (source[at] === '"') {
        quoted = true;
        const opened = line;
        at++;
        for (;;) {
          if (at >= source.length) {
            problems.push({ line: opened, message: 'a quote is opened and not closed' });
            break;
          }
          if (source[at] === '"' && source[at + 1] === '"') {
            value += '"';
            at += 2;
          } else if (source[at] === '"') {
            at++;
            break;
          } else {
            if (source[at] === '\n') line++;
            value += source[at++];
          }
        }
      }
      const bare = at;
      while (at < source.length && source[at] !== ',' && source[at] !== '\n' && source[at] !== '\r') at++;
      if (quoted && at > bare) problems.push({ line, message: 'there is text after a closing quote' });
      value += source.slice(bare, at);
      record.fields.push(quoted || value !== '' ? value : null);
      if (source[at] !== ',') break;
      at++;
    }
    if (source[at] === '\r') at++;
    if (source[at] === '\n') at++;
    line++;
    if (record.fields.length > 1 || record.fields[0] !== null) records.push(record);
  }
  const header = (records[0]?.fields ?? []).map((f) => f ?? '');
  for (const record of records.slice(1)) {
    if (record.fields.length !== header.length) {
      problems.push({
        line: record.line,
        message: `the line has ${record.fields.length} fields, the header ${header.length}`,
      });
    }
  }
  const rows = records.slice(1);
  return { header, rows: rows.map((r) => r.fields), lines: rows.map((r) => r.line), problems };
}

/** A CSV text with a header row; a null is an empty field, an empty text is quoted. Reading it gives the same again. */
export function csvText(header: readonly string[], rows: readonly (readonly CsvField[])[]): string {
  const field = (value: CsvField) => {
    if (value === null) return '';
    return value === '' || /[",\r\n]/.test(value) ? `"${value.replaceAll('"', '""')}"` : value;
  };
  // A line of one null alone would be read as no line at all.
  const line = (fields: readonly CsvField[]) =>
    fields.length === 1 && fields[0] === null ? '""' : fields.map(field).join(',');
  return [header, ...rows].map((r) => `${line(r)}\n`).join('');
}

/** Text copied out of a spreadsheet: lines of cells with tabs between; a cell with a break in it is quoted. */
export function readPasted(text: string): string[][] {
  const cells: string[][] = [[]];
  for (const match of text
    .replace(/\r\n?/g, '\n')
    .replace(/\n$/, '')
    .matchAll(/("(?:[^"]|"")*"|[^\t\n]*)(\t|\n|$)/g)) {
    const [, cell = '', end = ''] = match;
    cells
      .at(-1)!
      .push(
        cell.startsWith('"') && cell.endsWith('"') && cell.length > 1 ? cell.slice(1, -1).replaceAll('""', '"') : cell,
      );
    if (end === '\n') cells.push([]);
    if (end === '') break;
  }
  return cells;
}
