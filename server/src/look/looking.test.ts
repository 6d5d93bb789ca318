import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { readCsv } from '@ouvrage/core/index';
import {
  allRows,
  countRows,
  HISTOGRAM_STEPS,
  pageStatement,
  profileStatement,
  PROFILE_QUANTILES,
  sampleQuery,
  type PageRequest,
  type RowFilter,
} from '@ouvrage/core/look';
import type { Profile } from '@ouvrage/core/model';
import { parquetReadObjects } from 'hyparquet';
import { random, scratch } from '../testing-sql.js';
import { startApplication, type Client, type TestApplication } from '../testing.js';

/** Pages, profiles and samples on PostgreSQL, held against plain computations. */
const SCHEMA = 'looking_test';
const client = scratch(SCHEMA);

type Row = readonly [id: number, n: number | null, t: string | null];
const COLUMNS = [
  { name: 'id', type: 'integer' },
  { name: 'n', type: 'numeric(6,1)' },
  { name: 't', type: 'text' },
];
const WORDS = ['', 'a', 'B', "o'c", '%', 'ab1'];

async function fill(next: (below: number) => number, most: number): Promise<Row[]> {
  const maybe = <T>(v: T) => (next(4) === 0 ? null : v);
  const rows: Row[] = Array.from({ length: next(most) }, (_, i) => [
    i,
    maybe((next(7) - 3) / 2),
    maybe(WORDS[next(WORDS.length)]!),
  ]);
  await client.query('drop table if exists t cascade; create table t (id integer primary key, n numeric(6,1), t text)');
  await client.query(
    'insert into t select * from unnest($1::int[], $2::numeric[], $3::text[])',
    [0, 1, 2].map((c) => rows.map((r) => r[c])),
  );
  await client.query('create view v as select n, t from t');
  return rows;
}

const matches = (row: Readonly<Record<string, number | string | null>>, { column, op, value }: RowFilter): boolean => {
  const v = row[column]!;
  if (op === 'is null') return v === null;
  if (op === 'is not null') return v !== null;
  if (v === null) return false;
  if (op === 'contains')
    return (column === 'n' ? Number(v).toFixed(1) : String(v)).toLowerCase().includes(value!.toLowerCase());
  const other = typeof v === 'number' ? Number(value) : value!;
  return { '=': v === other, '<>': v !== other, '<': v < other, '<=': v <= other, '>': v > other, '>=': v >= other }[
    op
  ];
};

describe('pages', () => {
  test.each(Array.from({ length: 60 }, (_, seed) => seed))('every row once, in order: seed %i', async (seed) => {
    const next = random(seed + 1);
    const rows = await fill(next, 30);
    const overView = next(3) === 0;
    const columns = overView ? COLUMNS.slice(1) : COLUMNS;
    const source = `${SCHEMA}.${overView ? 'v' : 't'}`;
    const key = overView ? [] : next(2) === 0 ? ['id'] : ['ctid'];
    const sort = columns.filter(() => next(2) === 0).map((c) => ({ column: c.name, descending: next(2) === 0 }));
    const filters = Array.from({ length: next(2) }, (): RowFilter => {
      const column = columns[next(columns.length)]!;
      const op = (['=', '<>', '<', '<=', '>', '>=', 'contains', 'is null', 'is not null'] as const)[next(9)]!;
      return {
        column: column.name,
        op,
        value:
          column.type === 'text'
            ? WORDS[next(WORDS.length)]!
            : String((next(7) - 3) / 2 === 0 ? 1 : Math.trunc((next(7) - 3) / 2)),
      };
    });
    const request: Omit<PageRequest, 'after'> = { source, columns, show: [], filters, sort, key, limit: 1 + next(6) };
    const expected = rows.map(([id, n, t]) => ({ id, n, t })).filter((r) => filters.every((f) => matches(r, f)));

    const seen: (string | null)[][] = [];
    let after: (string | null)[] | undefined;
    for (let page = 0; page < 60; page++) {
      const { sql, values, orderColumns } = pageStatement({ ...request, after });
      const got = (await client.query<(string | null)[]>({ text: sql, values: [...values], rowMode: 'array' })).rows;
      if (got.length === 0) break;
      seen.push(...got.map((r) => r.slice(0, columns.length)));
      after = got.at(-1)!.slice(columns.length);
      expect(after).toHaveLength(orderColumns);
    }
    const plain = (r: Readonly<Record<string, number | string | null>>) =>
      columns
        .map((c) =>
          r[c.name] === null ? 'null' : c.type.startsWith('numeric') ? Number(r[c.name]).toFixed(1) : String(r[c.name]),
        )
        .join('|');
    expect(seen.map((r) => r.map((v) => v ?? 'null').join('|')).sort()).toEqual(expected.map(plain).sort());
    // The same order as one statement without pages has, as far as the sort says.
    const whole = allRows({ ...request });
    const inOrder = (
      await client.query<(string | null)[]>({ text: whole.sql, values: [...whole.values], rowMode: 'array' })
    ).rows;
    const sorted = (list: readonly (readonly (string | null)[])[]) =>
      list.map((r) => sort.map((s) => r[columns.findIndex((c) => c.name === s.column)]));
    expect(sorted(seen)).toEqual(sorted(inOrder));
    const count = countRows(request);
    expect(Number((await client.query<{ n: string }>({ text: count.sql, values: [...count.values] })).rows[0]!.n)).toBe(
      expected.length,
    );
  });

  test('values never become SQL', async () => {
    await fill(random(9), 10);
    const filters: RowFilter[] = [{ column: 't', op: '=', value: "'; drop table t; --" }];
    const { sql, values } = pageStatement({
      source: `${SCHEMA}.t`,
      columns: COLUMNS,
      show: ['t'],
      filters,
      sort: [],
      key: ['id'],
      limit: 5,
    });
    expect(sql).not.toContain('drop table');
    expect((await client.query({ text: sql, values: [...values] })).rows).toEqual([]);
    expect(() =>
      pageStatement({
        source: 't',
        columns: COLUMNS,
        show: ['t; drop table t'],
        filters: [],
        sort: [],
        key: ['id'],
        limit: 5,
      }),
    ).toThrow('there is no column');
  });
});

describe('profiles', () => {
  const discrete = <T>(sorted: readonly T[], at: number): T => sorted[Math.max(0, Math.ceil(at * sorted.length) - 1)]!;

  test.each(Array.from({ length: 40 }, (_, seed) => seed))(
    'are what a plain computation says: seed %i',
    async (seed) => {
      const rows = await fill(random(seed + 100), 60);
      const profile = JSON.parse(
        (await client.query<{ profile: string }>(profileStatement(`${SCHEMA}.t`, COLUMNS))).rows[0]!.profile,
      ) as Profile;
      expect(profile.rows).toBe(rows.length);
      const [, n, t] = profile.columns;
      const numbers = rows.flatMap((r) => (r[1] === null ? [] : [r[1]])).sort((a, b) => a - b);
      const texts = rows.flatMap((r) => (r[2] === null ? [] : [r[2]]));
      expect(n).toMatchObject({
        shape: 'number',
        nulls: rows.length - numbers.length,
        distinct: new Set(numbers).size,
      });
      expect(t).toMatchObject({ shape: 'text', nulls: rows.length - texts.length, distinct: new Set(texts).size });
      expect([n!.least, n!.greatest].map((v) => (v === null ? null : Number(v)))).toEqual(
        numbers.length ? [numbers[0], numbers.at(-1)] : [null, null],
      );
      if (numbers.length) {
        expect(Number(n!.mean)).toBeCloseTo(numbers.reduce((a, b) => a + b, 0) / numbers.length, 5);
        expect(n!.quantiles!.map(Number)).toEqual(PROFILE_QUANTILES.map((q) => discrete(numbers, q)));
        const [low, high] = [numbers[0]!, numbers.at(-1)!];
        const steps = new Map<number, number>();
        for (const v of numbers) {
          const step =
            low === high
              ? 0
              : Math.min(HISTOGRAM_STEPS - 1, Math.floor(((v - low) / (high - low)) * HISTOGRAM_STEPS + 1e-9));
          steps.set(step, (steps.get(step) ?? 0) + 1);
        }
        expect(n!.histogram).toEqual([...steps].sort((a, b) => a[0] - b[0]));
      }
      const counted = (values: readonly string[]) => {
        const counts = new Map<string, number>();
        for (const v of values) counts.set(v, (counts.get(v) ?? 0) + 1);
        return [...counts].sort((a, b) => b[1] - a[1] || (a[0] < b[0] ? -1 : 1));
      };
      expect(t!.frequent).toEqual(counted(texts).slice(0, 8));
      expect(t!.patterns).toEqual(
        counted(texts.map((v) => v.replace(/[a-z]/gi, 'a').replace(/[0-9]/g, '9'))).slice(0, 5),
      );
      if (texts.length)
        expect(t!.lengths).toMatchObject({
          least: Math.min(...texts.map((v) => v.length)),
          greatest: Math.max(...texts.map((v) => v.length)),
        });
      else expect(t!.lengths).toBeNull();
    },
  );

  test('every type can be profiled', async () => {
    const types = [
      'smallint',
      'bigint',
      'real',
      'double precision',
      'money',
      'numeric',
      'boolean',
      'date',
      'timestamptz',
      'timestamp',
      'interval',
      'time',
      'uuid',
      'json',
      'jsonb',
      'bytea',
      'text[]',
      'inet',
      'xml',
      'point',
      'varchar(5)',
      'character(3)',
    ];
    const columns = types.map((type, i) => ({ name: `c${i}`, type }));
    await client.query(`drop table if exists every; create table every (${columns.map((c) => `${c.name} ${c.type}`).join(', ')});
      insert into every (c2, c3, c5, c7) values ('NaN', 'Infinity', 'NaN', 'infinity'), (1, 2, 3, '2026-01-01'), (null, null, null, null)`);
    const profile = JSON.parse(
      (await client.query<{ profile: string }>(profileStatement(`${SCHEMA}.every`, columns))).rows[0]!.profile,
    ) as Profile;
    expect(profile.columns.map((c) => c.type)).toEqual(types);
    expect(profile.columns[2]).toMatchObject({ mean: '1.000000', greatest: 'NaN', histogram: [[0, 1]] });
  });
});

describe('samples', () => {
  test('a stratified one keeps each value; a plain one is about its share; both are the same again', async () => {
    await client.query(`drop table if exists big cascade; create table big as select i, case when i % 997 = 0 then 'rare' when i % 3 = 0 then null else 'usual' end as kind from generate_series(1, 6000) i;
      create view big_view as select * from big`);
    for (const [from, isTable] of [
      [`${SCHEMA}.big`, true],
      [`${SCHEMA}.big_view`, false],
    ] as const) {
      const strata = sampleQuery(from, ['i', 'kind'], { kind: 'stratified', by: ['kind'], each: 5 }, { isTable });
      const counts = (
        await client.query<{ kind: string | null; n: string }>(
          `select kind, count(*) as n from (${strata}) s group by 1 order by 1`,
        )
      ).rows;
      expect(counts).toEqual([
        { kind: 'rare', n: '5' },
        { kind: 'usual', n: '5' },
        { kind: null, n: '5' },
      ]);
      const plain = sampleQuery(from, ['i', 'kind'], { kind: 'plain', share: 0.1 }, { isTable });
      const [once, again] = [
        await client.query(`select * from (${plain}) s order by i`),
        await client.query(`select * from (${plain}) s order by i`),
      ];
      expect(once.rows).toEqual(again.rows);
      expect(once.rowCount).toBeGreaterThan(400);
      expect(once.rowCount).toBeLessThan(800);
    }
  });
});

describe('looking at tables through the server', () => {
  let application: TestApplication;
  let vera: Client;
  beforeAll(async () => {
    application = await startApplication();
    vera = await application.signIn('vera');
  });
  afterAll(() => application.close());

  const look = (more: object = {}) => ({ table: 'core.dim_vessel', show: [], filters: [], sort: [], ...more });
  const page = async (body: object) =>
    (await vera.send('post', '/api/workspaces/production/page', { limit: 50, ...body })).body as {
      rows: string[][];
      next: string[] | null;
      total: { rows: number; exact: boolean } | null;
      columns: { name: string }[];
      code?: string;
    };

  test('pages of a table and of a view run through all rows', async () => {
    for (const table of ['core.dim_vessel', 'staging.berth']) {
      const seen = new Set<string>();
      let pages = 0;
      let total: number | undefined;
      for (let after: string[] | null | undefined; after !== null;) {
        const got: Awaited<ReturnType<typeof page>> = await page({
          ...look({ table }),
          limit: 7,
          ...(after ? { after } : {}),
        });
        for (const row of got.rows) seen.add(JSON.stringify(row));
        total ??= got.total!.rows;
        after = got.next;
        pages++;
      }
      expect([table, seen.size]).toEqual([table, total]);
      expect(pages).toBe(Math.ceil(total! / 7));
    }
  });

  test('columns that are not there, and values that no column of that type has, are reported', async () => {
    expect(await page(look({ show: ['hull'] }))).toMatchObject({ code: 'unknown-column' });
    expect(await page(look({ filters: [{ column: 'gross_tonnage', op: '>', value: 'heavy' }] }))).toMatchObject({
      code: 'query-failed',
    });
  });

  test('a profile of a table and of its production', async () => {
    const { body } = await vera.send('post', '/api/workspaces/production/profile', {
      table: 'core.dim_vessel',
      production: true,
    });
    const profile = body as Profile & { share: number };
    const { total } = await page(look());
    expect(profile).toMatchObject({ rows: total!.rows, share: 1 });
    expect(profile.columns.find((c) => c.name === 'hull_no')).toMatchObject({
      nulls: 0,
      distinct: total!.rows,
      patterns: [
        ['aa-99999', total!.rows - 1],
        ['', 1],
      ],
    });
  });

  test('a preview reads a sample of one input, says so, and keeps each value of chosen columns', async () => {
    const mira = await application.signIn('mira');
    const slug = ((await mira.send('post', '/api/workspaces', { name: 'sampled' })).body as { slug: string }).slug;
    const preview = async (
      sample: object | undefined,
      text = 'select c.status, count(*) from landing.call c join landing.vessel using (hull_no) group by 1 order by 1',
    ) =>
      (await mira.send('post', `/api/workspaces/${slug}/preview`, { path: 'adhoc/q.sql', text, limit: 100, sample }))
        .body as {
        rows: string[][];
        sampled?: string;
        code?: string;
      };
    const all = await preview(undefined);
    const strata = await preview({ table: 'landing.call', by: ['status'], each: 3 });
    expect(strata.sampled).toBe('landing.call');
    expect(strata.rows).toEqual(all.rows.map((r) => [r[0], String(Math.min(3, Number(r[1])))]));
    const total = (p: { rows: string[][] }) => p.rows.reduce((n, r) => n + Number(r[1]), 0);
    expect(total(await preview({ table: 'landing.call', share: 0.2 }))).toBeLessThan(total(all) * 0.5);
    expect(
      await preview({ table: 'landing.call', share: 0.2 }, 'select call.status, 1 from landing.call'),
    ).toMatchObject({ sampled: 'landing.call' });
    expect(await preview({ table: 'landing.call', by: ['state'], each: 3 })).toMatchObject({ code: 'unknown-column' });
  });

  const file = async (format: string, more: object = {}) => {
    const answer = await vera
      .get(`/api/workspaces/production/export?format=${format}&look=${encodeURIComponent(JSON.stringify(look(more)))}`)
      .buffer(true)
      .parse((response, done) => {
        const chunks: Buffer[] = [];
        response.on('data', (c: Buffer) => chunks.push(c));
        response.on('end', () => done(null, Buffer.concat(chunks)));
      });
    return answer.body as Buffer;
  };

  test('CSV, JSON lines and Parquet hold the same rows', async () => {
    const more = {
      show: ['hull_no', 'vessel_name', 'flag_code', 'gross_tonnage'],
      filters: [{ column: 'gross_tonnage', op: '>', value: '20000' }],
      sort: [{ column: 'hull_no', descending: true }],
    };
    const csv = readCsv((await file('csv', more)).toString('utf8'));
    const lines = (await file('jsonl', more))
      .toString('utf8')
      .trimEnd()
      .split('\n')
      .map((l) => JSON.parse(l) as Record<string, unknown>);
    const parquet = await file('parquet', more);
    const parquetRows = await parquetReadObjects({
      file: parquet.buffer.slice(parquet.byteOffset, parquet.byteOffset + parquet.byteLength) as ArrayBuffer,
    });
    expect(csv.header).toEqual(more.show);
    const { rows } = csv;
    expect(lines.map((l) => more.show.map((c) => (l[c] === null ? null : String(l[c]))))).toEqual(
      rows.map((r) => r.map((v, i) => (i === 3 && v !== null ? String(Number(v)) : v))),
    );
    expect(
      parquetRows.map((r) =>
        more.show.map((c, i) =>
          r[c] === null ? null : i === 3 ? String(Number((r[c] as number).toFixed(1))) : (r[c] as string),
        ),
      ),
    ).toEqual(rows.map((r) => r.map((v, i) => (i === 3 && v !== null ? String(Number(v)) : v))));
    expect(rows.length).toBe((await page({ ...look(more), limit: 1 })).total!.rows);
    expect(rows).toEqual([...rows].sort((a, b) => (a[0]! < b[0]! ? 1 : -1)));
  });
});
