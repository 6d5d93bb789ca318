import { describe, expect, test } from '@jest/globals';
import { readCsv } from '@ouvrage/core/index';
import { parquetReadObjects, parquetSchema, parquetMetadataAsync } from 'hyparquet';
import { EXPORT_FORMATS, written, type ExportFormat } from './export-formats.js';
import { unfitCondition } from './parquet-types.js';

/** Odd values in each format: the type, the value as PostgreSQL writes it, and what a reader of the file finds. */
const CASES: readonly (readonly [type: string, text: string | null, parquet: unknown, json: unknown])[] = [
  ['smallint', '-32768', -32768, -32768],
  ['bigint', '9223372036854775807', 9223372036854775807n, 9223372036854775807],
  ['numeric(12,2)', '-0.01', -0.01, -0.01],
  ['numeric(12,2)', '1234567890.10', 1234567890.1, 1234567890.1],
  ['numeric(5)', '12345', 12345, 12345],
  ['numeric(38,10)', '-1234567890123456789012345678.0000000001', -1.2345678901234568e27, -1.2345678901234568e27],
  ['numeric', '1.0', '1.0', 1.0],
  ['numeric', 'NaN', 'NaN', 'NaN'],
  ['real', '0.5', 0.5, 0.5],
  ['double precision', '-Infinity', -Infinity, '-Infinity'],
  ['double precision', 'NaN', NaN, 'NaN'],
  ['boolean', 't', true, true],
  ['boolean', 'f', false, false],
  ['date', '2026-02-28', new Date('2026-02-28'), '2026-02-28'],
  ['date', '0044-03-15 BC', new Date('-000043-03-15'), '0044-03-15 BC'],
  ['date', '1900-02-28', new Date('1900-02-28'), '1900-02-28'],
  ['timestamp', '2026-03-29 02:30:00.000001', new Date('2026-03-29T02:30:00Z'), '2026-03-29 02:30:00.000001'],
  ['timestamptz', '2026-10-25 00:30:00+00', new Date('2026-10-25T00:30:00Z'), '2026-10-25 00:30:00+00'],
  ['timestamptz', '0001-12-31 23:59:59.5+00 BC', new Date('0000-12-31T23:59:59.500Z'), '0001-12-31 23:59:59.5+00 BC'],
  ['timestamptz', '1969-12-31 23:59:59.75+00', new Date('1969-12-31T23:59:59.750Z'), '1969-12-31 23:59:59.75+00'],
  ['time', '24:00:00', 86_400_000_000n, '24:00:00'],
  ['time', '14:05:00.25', 50_700_250_000n, '14:05:00.25'],
  ['timetz', '14:05:00+02', '14:05:00+02', '14:05:00+02'],
  ['interval', '1 mon -1 days', '1 mon -1 days', '1 mon -1 days'],
  ['text', '', '', ''],
  ['text', null, null, null],
  ['text', 'a "quoted",\r\nline\t🚢', 'a "quoted",\r\nline\t🚢', 'a "quoted",\r\nline\t🚢'],
  ['text', '=1+1', '=1+1', '=1+1'],
  ['bytea', '\\x00ff', '\\x00ff', '\\x00ff'],
  [
    'uuid',
    '00000000-0000-0000-0000-000000000001',
    '00000000-0000-0000-0000-000000000001',
    '00000000-0000-0000-0000-000000000001',
  ],
  ['jsonb', '{"a": [1, null]}', '{"a": [1, null]}', { a: [1, null] }],
  ['integer[]', '[0:1]={1,2}', '[0:1]={1,2}', '[0:1]={1,2}'],
  ['int4range', 'empty', 'empty', 'empty'],
  ['smallint', null, null, null],
  ['numeric(12,2)', null, null, null],
  ['timestamptz', null, null, null],
];
const columns = CASES.map(([type], i) => ({ name: `c ${i} "${type}"`, type }));
const row = CASES.map(([, text]) => text);

async function fileOf(format: ExportFormat, rows: (string | null)[][]): Promise<Buffer> {
  const chunks: Buffer[] = [];
  const batches = async function* () {
    yield rows.slice(0, 1);
    yield rows.slice(1);
  };
  for await (const chunk of written(format, columns, batches())) chunks.push(Buffer.from(chunk));
  return Buffer.concat(chunks);
}

/** Decimals are whole in the file; its reader makes floating-point numbers of them. */
const near = (value: unknown): unknown =>
  typeof value === 'number' && Number.isFinite(value) ? Number(value.toPrecision(14)) : value;
const bufferOf = (file: Buffer) => file.buffer.slice(file.byteOffset, file.byteOffset + file.byteLength) as ArrayBuffer;

describe.each(EXPORT_FORMATS)('%s', (format) => {
  test('holds what PostgreSQL wrote', async () => {
    const file = await fileOf(format, [row, row]);
    if (format === 'csv') {
      const { header, rows } = readCsv(file.toString('utf8'));
      expect([header, rows]).toEqual([columns.map((c) => c.name), [row, row]]);
      return;
    }
    const read =
      format === 'jsonl'
        ? file
            .toString('utf8')
            .trimEnd()
            .split('\n')
            .map((line) => JSON.parse(line) as Record<string, unknown>)
        : await parquetReadObjects({ file: bufferOf(file) });
    expect(read).toHaveLength(2);
    for (const [i, [type, text, parquet, json]] of CASES.entries())
      expect([type, text, near(read[1]![columns[i]!.name])]).toEqual([
        type,
        text,
        near(format === 'jsonl' ? json : parquet),
      ]);
  });
  test('a file without rows has its columns', async () => {
    const file = await fileOf(format, []);
    if (format === 'csv') expect(readCsv(file.toString('utf8')).header).toEqual(columns.map((c) => c.name));
    if (format === 'jsonl') expect(file.length).toBe(0);
    if (format === 'parquet')
      expect(parquetSchema(await parquetMetadataAsync(bufferOf(file))).children.map((c) => c.element.name)).toEqual(
        columns.map((c) => c.name),
      );
  });
});

test.each([
  ['date', `not isfinite("x")`],
  ['timestamptz', `not isfinite("x")`],
  ['numeric(5,2)', `"x" = 'NaN'`],
  ['numeric', undefined],
  ['double precision', undefined],
  ['date[]', undefined],
])('values of %s that Parquet has no like for: %s', (type, expected) =>
  expect(unfitCondition({ name: 'x', type })).toBe(expected),
);
