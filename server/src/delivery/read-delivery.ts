import { detectDecimal, detectDelimiter, isNumberType, withPoint, type DeliveryOptions } from '@ouvrage/core/intake';
import { valueProblem } from '@ouvrage/core/language';
import { parse } from 'csv-parse';
import { asyncBufferFromFile, parquetMetadataAsync, parquetReadObjects } from 'hyparquet';
import { createReadStream } from 'node:fs';
import { open } from 'node:fs/promises';
import { TextDecoderStream } from 'node:stream/web';
import { Readable } from 'node:stream';

/** One row of a delivered file: its line (or number), and its values as text in the order of the columns. */
export interface DeliveredRow {
  readonly line: number;
  readonly values: readonly (string | null)[];
  readonly problem?: BadValue;
}

export interface BadValue {
  readonly line: number;
  readonly column: string;
  readonly value: string;
  readonly reason: string;
}

export interface FileColumn {
  readonly name: string;
  readonly type: string;
  readonly notNull: boolean;
}

/** Characters of one row of a file; a longer one is no row, but a file of another form. */
export const LONGEST_ROW = 8_000_000;

/** A file that cannot be read at all: its form, not a value of it. */
export class UnreadableFile extends Error {}

/** Is told the columns that a file has, once or bit by bit. */
type OnColumns = (names: readonly string[]) => void;

/** The rows of a delivered file, read bit by bit and checked against the columns' types. */
export async function* readDelivery(
  file: string,
  options: DeliveryOptions,
  columns: readonly FileColumn[],
  onColumns: OnColumns = () => undefined,
): AsyncGenerator<DeliveredRow> {
  switch (options.format) {
    case 'csv':
      yield* readCsvFile(file, options, columns, onColumns);
      break;
    case 'jsonl':
      yield* readJsonLines(file, columns, onColumns);
      break;
    case 'parquet':
      yield* readParquet(file, columns, onColumns);
      break;
  }
}

function checked(line: number, values: readonly (string | null)[], columns: readonly FileColumn[]): DeliveredRow {
  for (const [i, { name, type, notNull }] of columns.entries()) {
    const value = values[i] ?? null;
    const reason =
      value === null
        ? notNull
          ? 'is missing'
          : undefined
        : value.includes('\0')
          ? 'holds a zero byte'
          : valueProblem(type, value);
    if (reason !== undefined) return { line, values, problem: { line, column: name, value: value ?? '', reason } };
  }
  return { line, values };
}

/** Bytes that are looked at to find out how a file is written. */
const HEAD = 64 * 1024;

async function headOf(file: string, encoding: string): Promise<string> {
  const handle = await open(file);
  try {
    const { bytesRead, buffer } = await handle.read(Buffer.alloc(HEAD), 0, HEAD, 0);
    return new TextDecoder(encoding).decode(buffer.subarray(0, bytesRead), { stream: true });
  } finally {
    await handle.close();
  }
}

/** As declared, or UTF-8 where the file's beginning is UTF-8, or the western encoding of old office programs. */
async function encodingOf(file: string, declared: string | undefined): Promise<string> {
  if (declared) return declared;
  const handle = await open(file);
  try {
    const { bytesRead, buffer } = await handle.read(Buffer.alloc(HEAD), 0, HEAD, 0);
    try {
      new TextDecoder('utf-8', { fatal: true }).decode(buffer.subarray(0, bytesRead), { stream: true });
      return 'utf-8';
    } catch {
      return 'windows-1252';
    }
  } finally {
    await handle.close();
  }
}

async function* readCsvFile(
  file: string,
  options: DeliveryOptions,
  columns: readonly FileColumn[],
  onColumns: OnColumns,
): AsyncGenerator<DeliveredRow> {
  const encoding = await encodingOf(file, options.encoding);
  const head = await headOf(file, encoding).catch(() => {
    throw new UnreadableFile(`${encoding} is not an encoding`);
  });
  const delimiter = options.delimiter ?? detectDelimiter(head.split(/\r?\n/, 1)[0] ?? '');
  const format = {
    delimiter,
    quote: options.quote,
    bom: true,
    relax_column_count: true,
    skip_empty_lines: true,
    info: true,
    max_record_size: LONGEST_ROW,
  } as const;
  const decimal = options.decimal ?? detectDecimal(await sampledNumbers(head, format, columns, options.header));
  const text = Readable.toWeb(createReadStream(file)).pipeThrough(
    new TextDecoderStream(encoding, { fatal: true }) as never,
  );
  const parser = Readable.fromWeb(text as never).pipe(parse(format));
  let places = options.header ? undefined : columns.map((_, i) => i);
  try {
    for await (const { record, info } of parser as AsyncIterable<{ record: string[]; info: { lines: number } }>) {
      if (!places) {
        places = placesOf(record, columns);
        onColumns(record.map((name) => name.trim()));
        continue;
      }
      if (record.length < Math.max(...places) + 1) {
        const missing = columns[places.findIndex((p) => p >= record.length)]!;
        yield {
          line: info.lines,
          values: [],
          problem: {
            line: info.lines,
            column: missing.name,
            value: record.join(delimiter),
            reason: `is missing: the line has ${record.length} fields`,
          },
        };
        continue;
      }
      const values = columns.map(({ type }, i) => {
        const value = record[places![i]!]!;
        if (value === options.nullText) return null;
        return decimal === ',' && isNumberType(type) ? withPoint(value) : value;
      });
      yield checked(info.lines, values, columns);
    }
  } catch (error) {
    if (error instanceof UnreadableFile) throw error;
    const { message, code } = error as Error & { code?: string };
    throw new UnreadableFile(
      code === 'ERR_ENCODING_INVALID_ENCODED_DATA'
        ? `the file is not ${encoding}; set the option encoding`
        : code === 'CSV_MAX_RECORD_SIZE'
          ? `a row before line ${(error as { lines?: number }).lines ?? 0} is longer than ${LONGEST_ROW} characters: perhaps a quote is not closed`
          : message,
    );
  }
}

/** Where each column stands, by the header's names; more columns in the file are passed over. */
function placesOf(header: readonly string[], columns: readonly FileColumn[]): number[] {
  const names = header.map((h) => h.trim().toLowerCase());
  const places = columns.map((c) => names.indexOf(c.name.toLowerCase()));
  const missing = columns.filter((_, i) => places[i]! < 0).map((c) => c.name);
  if (missing.length)
    throw new UnreadableFile(`the header has no column ${missing.join(', ')}; it has ${header.join(', ')}`);
  return places;
}

async function sampledNumbers(
  head: string,
  format: object,
  columns: readonly FileColumn[],
  hasHeader: boolean,
): Promise<string[]> {
  const whole = head.slice(0, head.lastIndexOf('\n') + 1 || head.length);
  const found: string[] = [];
  try {
    let places = hasHeader ? undefined : columns.map((_, i) => i);
    for await (const { record } of Readable.from([whole]).pipe(parse(format)) as AsyncIterable<{ record: string[] }>) {
      if (!places) places = placesOf(record, columns);
      else
        columns.forEach(
          (c, i) => isNumberType(c.type) && record[places![i]!] !== undefined && found.push(record[places![i]!]!),
        );
    }
  } catch {
    // The file is read again from its start, and what is wrong with it is told then.
  }
  return found;
}

/** The lines of a file, without their ends. @throws UnreadableFile for one that is too long to be a row */
async function* linesOf(file: string): AsyncGenerator<string> {
  let parts: string[] = [];
  let length = 0;
  let line = 1;
  for await (const chunk of createReadStream(file, {
    encoding: 'utf8',
    highWaterMark: 256 * 1024,
  }) as AsyncIterable<string>) {
    let at = 0;
    for (let end = chunk.indexOf('\n'); end >= 0; end = chunk.indexOf('\n', at)) {
      yield (parts.join('') + chunk.slice(at, end)).replace(/\r$/, '');
      parts = [];
      length = 0;
      line++;
      at = end + 1;
    }
    parts.push(chunk.slice(at));
    length += chunk.length - at;
    if (length > LONGEST_ROW) throw new UnreadableFile(`line ${line} is longer than ${LONGEST_ROW} characters`);
  }
  if (length > 0) yield parts.join('').replace(/\r$/, '');
}

async function* readJsonLines(
  file: string,
  columns: readonly FileColumn[],
  onColumns: OnColumns,
): AsyncGenerator<DeliveredRow> {
  let line = 0;
  for await (const text of linesOf(file)) {
    line++;
    if (text.trim() === '') continue;
    let row: unknown;
    try {
      row = JSON.parse(line === 1 ? text.replace(/^\ufeff/, '') : text);
    } catch {
      yield {
        line,
        values: [],
        problem: {
          line,
          column: columns[0]?.name ?? '',
          value: text.slice(0, 200),
          reason: 'the line is not valid JSON',
        },
      };
      continue;
    }
    if (typeof row !== 'object' || row === null || Array.isArray(row)) {
      yield {
        line,
        values: [],
        problem: {
          line,
          column: columns[0]?.name ?? '',
          value: text.slice(0, 200),
          reason: 'the line is not a JSON object',
        },
      };
      continue;
    }
    onColumns(Object.keys(row));
    yield checked(
      line,
      columns.map((c) => asText((row as Record<string, unknown>)[c.name])),
      columns,
    );
  }
}

const PARQUET_ROWS = 5000;

async function* readParquet(
  path: string,
  columns: readonly FileColumn[],
  onColumns: OnColumns,
): AsyncGenerator<DeliveredRow> {
  const file = await asyncBufferFromFile(path);
  const metadata = await parquetMetadataAsync(file).catch((error: unknown) => {
    throw new UnreadableFile(
      `the file is not a Parquet file: ${error instanceof Error ? error.message : String(error)}`,
    );
  });
  const there = metadata.schema.slice(1).map((s) => s.name);
  const missing = columns.filter((c) => !there.includes(c.name)).map((c) => c.name);
  if (missing.length)
    throw new UnreadableFile(`the file has no column ${missing.join(', ')}; it has ${there.join(', ')}`);
  onColumns(topLevel(metadata.schema));
  const total = Number(metadata.num_rows);
  for (let start = 0; start < total; start += PARQUET_ROWS) {
    const rows = await parquetReadObjects({
      file,
      metadata,
      columns: columns.map((c) => c.name),
      rowStart: start,
      rowEnd: Math.min(total, start + PARQUET_ROWS),
    });
    for (const [i, row] of rows.entries())
      yield checked(
        start + i + 1,
        columns.map((c) => asText(row[c.name])),
        columns,
      );
  }
}

/** The names of a Parquet file's columns; parts of nested ones follow each in its schema. */
function topLevel([root, ...rest]: readonly { readonly name: string; readonly num_children?: number }[]): string[] {
  const names: string[] = [];
  let at = 0;
  const skip = (children: number): void => {
    for (let n = 0; n < children; n++) skip(rest[at++]?.num_children ?? 0);
  };
  for (let n = 0; n < (root?.num_children ?? 0); n++) {
    const column = rest[at++];
    if (column) names.push(column.name);
    skip(column?.num_children ?? 0);
  }
  return names;
}

/** A value of JSON or Parquet as PostgreSQL reads it. */
function asText(value: unknown): string | null {
  if (value === null || value === undefined) return null;
  if (value instanceof Date) return value.toISOString();
  if (typeof value === 'object')
    return JSON.stringify(value, (_, v: unknown) => (typeof v === 'bigint' ? v.toString() : v));
  return String(value as string | number | boolean | bigint);
}
