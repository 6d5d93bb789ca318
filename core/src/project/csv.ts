/** A field of a CSV file: null is an unquoted empty field. */
export type CsvField = string | null;

export interface CsvProblem {
  readonly line: number;
  readonly message: string;
}

export interface Csv {
  readonly header: readonly string[];
  readonly rows: readonly (readonly CsvField[])[];
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
      while (at < source.length && source[at] !== ',' && source[at] !== '\n' && source[at] !== '\r') {
        if (quoted) problems.push({ line, message: 'text stands behind a closing quote' });
        value += source[at++];
      }
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
      problems.push({ line: record.line, message: `the line has ${record.fields.length} fields, the header ${header.length}` });
    }
  }
  return { header, rows: records.slice(1).map((r) => r.fields), problems };
}
