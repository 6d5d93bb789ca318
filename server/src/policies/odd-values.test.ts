import { beforeAll, describe, expect, jest, test } from '@jest/globals';
import { readCsv } from '@ouvrage/core/index';
import { ident } from '@ouvrage/core/sql';
import { parquetReadObjects } from 'hyparquet';
import { scratch } from '../testing-sql.js';
import { written as fileOf, EXPORT_FORMATS, type ExportFormat } from '../look/export-formats.js';
import { loadsOf, written } from './harness.js';
import { hour, source } from './worlds.js';

/** A table of odd values, 300 columns wide, through every policy and way of making keys. */
const SCHEMA = 'odd_values_test';
jest.setTimeout(300_000);
const client = scratch(SCHEMA);

/** Columns by name, with a type and the odd values that its rows take in turn. */
const ODD: readonly (readonly [name: string, type: string, values: readonly (string | null)[]])[] = [
  ['numeric', 'numeric', ['NaN', 'Infinity', '-Infinity', '0', '-0.000', '1.0', '1.00', '1e300', null]],
  ['numeric_scaled', 'numeric(12,2)', ['-0.01', '9999999999.99', 'NaN', null]],
  ['real', 'real', ['NaN', '-0', '0', 'Infinity', '1e-45', '3.4028235e38']],
  ['double', 'double precision', ['NaN', '-0', '-Infinity', '5e-324', '0.30000000000000004', null]],
  ['smallint', 'smallint', ['-32768', '32767', null]],
  ['bigint', 'bigint', ['-9223372036854775808', '9223372036854775807', '0']],
  ['boolean', 'boolean', ['true', 'false', null]],
  ['date', 'date', ['-infinity', 'infinity', '4713-01-01 BC', '0044-03-15 BC', '5874897-12-31', '2024-02-29', null]],
  [
    'timestamp',
    'timestamp',
    ['2026-03-29 02:30:00', '2026-10-25 02:30:00.000001', 'infinity', '4713-01-01 00:00:00 BC'],
  ],
  [
    'timestamptz',
    'timestamptz',
    [
      '2026-03-29 00:59:59.999999+00',
      '2026-03-29 01:00:00+00',
      '2026-10-25 00:30:00+00',
      '2026-10-25 01:30:00+00',
      '-infinity',
    ],
  ],
  ['time', 'time', ['24:00:00', '00:00:00', '23:59:59.999999']],
  ['timetz', 'timetz', ['00:00:00+15:59', '24:00:00-15:59', '12:00:00+00']],
  ['interval', 'interval', ['1 mon', '30 days', '720:00:00', '-178000000 years', '-1 mons +1 day', null]],
  ['text', 'text', ['', ' ', 'null', '\\N', "it's", '"', 'a\nb\r\n\tc', '🚢é', 'é', 'Ａ', '$1 %s :x', null]],
  ['varchar', 'varchar(20)', ['', 'A', 'a', 'a ', 'ß']],
  ['character', 'character(4)', ['', 'a', 'a b ', null]],
  ['bytea', 'bytea', ['\\x', '\\x00', '\\x0000', '\\xff']],
  ['uuid', 'uuid', ['00000000-0000-0000-0000-000000000000', 'ffffffff-ffff-ffff-ffff-ffffffffffff', null]],
  ['bit', 'bit(3)', ['000', '111']],
  ['varbit', 'bit varying', ['', '0', '00', '1']],
  ['inet', 'inet', ['10.0.0.1', '10.0.0.1/8', '::1', null]],
  ['cidr', 'cidr', ['10.0.0.0/8', '::/0']],
  ['macaddr', 'macaddr', ['08:00:2b:01:02:03', '00:00:00:00:00:00']],
  ['money', 'money', ['-92233720368547758.08', '0.00', '1.00']],
  ['integers', 'integer[]', ['{}', '{1,2}', '[0:1]={1,2}', '{{1,2},{3,NULL}}', null]],
  ['texts', 'text[]', ['{}', '{NULL}', '{""}', '{"a,b","c\\"d"}']],
  ['dates', 'date[]', ['{infinity}', '{"0001-01-01 BC"}', '{}']],
  ['int4range', 'int4range', ['empty', '(,)', '[1,2)', '[1,3)']],
  ['tstzrange', 'tstzrange', ['empty', '["2026-03-29 00:59:59+00",infinity)', '(,"2026-01-01 00:00:00+00"]']],
  ['nummultirange', 'nummultirange', ['{}', '{[1,2)}', '{[1,2),(3,)}']],
  ['json', 'json', ['{"a": 1.0, "a": 2}', '[]', 'null', '""', null]],
  ['jsonb', 'jsonb', ['{"a": 1.0}', '{"a": 1}', '{"": [null]}', 'null', null]],
  ['tsvector', 'tsvector', ['', "'a':1A 'b'"]],
  ['domain', 'odd_amount', ['0', '1.50', null]],
  ['composite', 'odd_pair', ['(1,a)', '(,"")', '(,)', '(-1,"a,""b")', null]],
  ['enumerated', 'odd_mood', ['Calm', 'rough sea', null]],
  ['Mixed Case', 'text', ['', 'x']],
  [`sixty_three_${'b'.repeat(51)}`, 'text', ['', 'x']],
  [`sixty_three_${'b'.repeat(49)}éc`.slice(0, 62), 'text', ['y', null]],
  ['select', 'integer', ['1', '2', null]],
];
const KEY = [
  ['key_text', 'text', (i: number) => ['', ' ', 'a', 'A', 'a '][i % 5]! + (i < 5 ? '' : i)],
  ['key_time', 'timestamptz', (i: number) => (i % 3 ? '2026-10-25 00:30:00+00' : '0044-03-15 00:00:00+00 BC')],
  ['key_number', 'numeric', (i: number) => ['NaN', '1.0', '-0.0', '1e20'][i % 4]!],
  ['key_list', 'integer[]', (i: number) => (i % 2 ? '[0:1]={1,2}' : '{}')],
] as const;
/** Columns that a load fills: a number, a row hash, and from when until when. */
const FILLED = 4;
const MORE = Array.from(
  { length: 300 - ODD.length - KEY.length - FILLED },
  (_, i) => [`more_${i}`, 'integer'] as const,
);
const ROWS = 40;

const VALUES = [...ODD.map(([n, t]) => [n, t] as const), ...MORE];
const GIVEN = [...KEY.map(([n, t]) => [n, t] as const), ...VALUES];
const listed = (columns: readonly (readonly [string, string])[], note = '') =>
  columns.map(([n, t]) => `${ident(n)} ${t}${note}`).join(', ');
const names = (columns: readonly (readonly [string, ...unknown[]])[]) => columns.map(([n]) => ident(n)).join(', ');
const BUSINESS = `business_key = '${KEY.map(([n]) => n).join(', ')}'`;
const VALID = `valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to')`;
const QUERY = `select ${names(GIVEN)} from landing.src`;

/** Ways of making keys, as the first column of a contract. */
const WAYS: readonly (readonly [name: string, columns: string, options: string])[] = [
  ['without a number', '', ''],
  ['with numbers of a key map', "n bigint options (role 'surrogate key'), ", ''],
  [
    'with hash keys and row hashes',
    "n bigint options (role 'surrogate key'), h text options (role 'row hash'), ",
    ', key_method = hash',
  ],
];

const POLICIES: readonly (readonly [name: string, columns: string, options: string, query: string])[] = [
  [
    'append',
    ', at timestamptz not null',
    "load = append, watermark = 'at'",
    `select ${names(GIVEN)}, at from landing.src`,
  ],
  ['rebuild', '', `load = rebuild, ${BUSINESS}`, QUERY],
  ...['', ', shape = rewrite'].flatMap(
    (shape) =>
      [
        [`merge${shape}`, '', `load = merge, ${BUSINESS}, missing_rows = delete${shape}`, QUERY],
        [`history${shape}`, `, ${VALID}`, `load = history, ${BUSINESS}, missing_rows = close${shape}`, QUERY],
      ] as const,
  ),
  [
    'events',
    `, ${VALID}`,
    `load = history, ${BUSINESS}, effective_from = 'at'`,
    `select ${names(GIVEN)}, at from landing.src`,
  ],
  [
    'dated',
    `, d date options (role 'as of')`,
    `load = dated, ${BUSINESS}`,
    `select ${names(GIVEN)}, at::date as d from landing.src`,
  ],
];

/** The source at a load: the odd values move on by a row from one load to the next. */
async function fill(load: number): Promise<void> {
  await client.query(`drop table if exists src; create table src (${listed(GIVEN)}, at timestamptz)`);
  for (let i = 0; i < ROWS; i++) {
    const values = [
      ...KEY.map(([, , of]) => of(i)),
      ...ODD.map(([, , v]) => v[(i + load) % v.length]!),
      ...MORE.map((_, n) => String(i + n)),
      hour(24 * load),
    ];
    await client.query(`insert into src values (${values.map((_, n) => `$${n + 1}`).join(', ')})`, values);
  }
}

/** The rows of one side as PostgreSQL writes them, in order: what differs in the least is found. */
const rowsOf = async (from: string) =>
  (
    await client.query<{ row: string }>(
      `select row(${names(GIVEN)})::text as row from ${from} order by ${names(KEY)}, 1`,
    )
  ).rows.map((r) => r.row);

beforeAll(async () => {
  await client.query(
    `create domain odd_amount as numeric check (value >= 0); create type odd_pair as (n integer, x text); create type odd_mood as enum ('Calm', 'rough sea')`,
  );
});

test('the table is 300 columns wide, and its values are odd', () => {
  expect(GIVEN.length + FILLED).toBe(300);
  expect(ODD.reduce((sum, [, , values]) => sum + values.length, 0)).toBeGreaterThan(ROWS * 3);
});

describe.each(POLICIES)('%s', (policy, columns, options, query) => {
  test.each(policy === 'append' ? WAYS.slice(0, 1) : WAYS)('%s', async (_, number, way) => {
    const contract = `${number}${listed(
      KEY.map(([n, t]) => [n, t] as const),
      ' not null',
    )}, ${listed(VALUES)}${columns}) with (${options}${way}`;
    const loads = await loadsOf(client, SCHEMA, `${contract})`, query, source(`${listed(GIVEN)}, at timestamptz`));
    await client.query('drop table if exists "t~events"');
    await loads.reset();
    await fill(0);
    await loads.load(hour(0));
    expect(await rowsOf('t')).toEqual(await rowsOf('src'));
    const before = await written(client, 't');
    const numbers = number
      ? (await client.query('select n, row(key_text, key_time, key_number, key_list)::text as key from t order by key'))
          .rows
      : [];
    await loads.load(hour(1));
    if (policy !== 'rebuild') expect(await written(client, 't')).toBe(before);
    await fill(1);
    await loads.load(hour(30));
    const current =
      policy === 'append'
        ? `t where at > '${hour(1)}'`
        : policy === 'dated'
          ? "t where d = '2026-01-02'"
          : columns.includes('valid')
            ? 't where valid_to is null'
            : 't';
    expect(await rowsOf(current)).toEqual(await rowsOf('src'));
    if (!number) return;
    expect(numbers.length).toBe(ROWS);
    const { rows } = await client.query<{ n: string; numbers: string }>(
      `select count(distinct n) as n, count(*) as numbers from t`,
    );
    if (policy !== 'dated') expect(rows[0]!.n).toBe(rows[0]!.numbers);
    if (policy === 'rebuild' || policy.startsWith('merge'))
      expect(
        (await client.query('select n, row(key_text, key_time, key_number, key_list)::text as key from t order by key'))
          .rows,
      ).toEqual(numbers);
  });
});

/** What a reader of a file finds, row by row. */
async function readBack(format: ExportFormat, file: Buffer): Promise<Record<string, unknown>[]> {
  const text = file.toString('utf8');
  if (format === 'parquet')
    return parquetReadObjects({
      file: file.buffer.slice(file.byteOffset, file.byteOffset + file.byteLength) as ArrayBuffer,
    });
  if (format === 'jsonl')
    return text
      .trimEnd()
      .split('\n')
      .map((line) => JSON.parse(line) as Record<string, unknown>);
  const { header, rows } = readCsv(text);
  return rows.map((row) => Object.fromEntries(header.map((name, i) => [name, row[i]])));
}

test.each(EXPORT_FORMATS)('as %s every row has every column', async (format) => {
  await fill(0);
  const { rows } = await client.query<Record<string, string | null>>(`select ${names(GIVEN)} from src`);
  // Whole texts here; what the kinds of Parquet hold is tested beside the formats.
  const columns = GIVEN.map(([name]) => ({ name, type: 'text' }));
  const chunks: Buffer[] = [];
  const batches = async function* () {
    for (const row of rows) yield [columns.map((c) => row[c.name]!)];
  };
  for await (const chunk of fileOf(format, columns, batches())) chunks.push(Buffer.from(chunk));
  expect(await readBack(format, Buffer.concat(chunks))).toEqual(rows);
});
