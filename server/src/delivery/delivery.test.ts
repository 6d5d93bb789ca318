import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { mkdir, readdir, readFile, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { Readable } from 'node:stream';
import pg from 'pg';
import request from 'supertest';
import { type Client, draft, startApplication, type TestApplication, workspace } from '../testing.js';
import { DeliveryWatcher } from './delivery-watcher.js';
import { DropFolder } from './drop-folder.js';

interface DeliveryView {
  readonly file: string;
  readonly table: string | null;
  readonly state: string;
  readonly rows: string | null;
  readonly rejects: string | null;
  readonly reason: string | null;
}

let application: TestApplication;
let mira: Client;

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(async () => {
  // Other tests of this cluster find production as the demo has it.
  await landed(`delete from landing.berth_rate where as_of >= '2030-01-01'`);
  const { body } = await mira.send('post', '/api/workspaces/production/runs', {
    tables: ['core.berth_rate'],
    upstream: false,
    downstream: false,
  });
  await mira.ended((body as { id: number }).id);
  await application.close();
});

const folder = (...parts: string[]) => path.join(application.config.dropFolder, ...parts);

async function deliver(name: string, content: string | Buffer): Promise<DeliveryView> {
  await mkdir(folder(), { recursive: true });
  await writeFile(folder(name), content);
  const { body } = await mira.send('post', '/api/deliveries/look');
  return (body as { files: DeliveryView[] }).files.find((f) => f.file === name)!;
}

async function landed<T extends pg.QueryResultRow>(sql: string): Promise<T[]> {
  const client = new pg.Client(application.config.warehouse.production);
  await client.connect();
  try {
    return (await client.query<T>(sql)).rows;
  } finally {
    await client.end();
  }
}

const rates = (date: string) =>
  landed(`select berth_code, rate::float8 as rate, charged from landing.berth_rate where as_of = '${date}' order by 1`);
const files = async (of: string) => (await readdir(folder(of))).sort();

test('a file lands with what its name says, and again in place of itself; the same content is loaded once', async () => {
  const name = 'berth_rates_2030-01-01.csv';
  const content = 'charged,berth_code,rate,extra\n"by day",NQ-1,40.50,x\n,"NQ-2 ""b""",1e1,\n';
  expect(await deliver(name, content)).toMatchObject({
    table: 'landing.berth_rate',
    state: 'loaded',
    rows: '2',
    reason: 'the table does not declare extra: ignored',
  });
  expect(await rates('2030-01-01')).toEqual([
    { berth_code: 'NQ-1', rate: 40.5, charged: 'by day' },
    { berth_code: 'NQ-2 "b"', rate: 10, charged: null },
  ]);
  expect(await deliver(name, content)).toMatchObject({ state: 'repeated' });
  expect(await deliver(name, 'berth_code,rate,charged\nNQ-1,41,by day\n')).toMatchObject({
    state: 'loaded',
    rows: '1',
  });
  expect(await rates('2030-01-01')).toEqual([{ berth_code: 'NQ-1', rate: 41, charged: 'by day' }]);
  expect((await files('archive')).filter((f) => f.includes('2030-01-01'))).toHaveLength(3);
});

test.each([
  [
    'a value of another type',
    'berth_code,rate,charged\nNQ-1,40,\nNQ-2,dear,\n',
    'line 3, column rate: “dear” is not a number',
  ],
  ['a value that is missing', 'berth_code,rate,charged\nNQ-1,,\n', 'line 2, column rate: “” is missing'],
  ['a line that is too short', 'berth_code,rate,charged\nNQ-1\n', 'is missing: the line has 1 fields'],
  [
    'a column that is missing',
    'berth,rate\nNQ-1,40\n',
    'the header has no column berth_code, charged; it has berth, rate',
  ],
  ['a quote that is not closed', 'berth_code,rate,charged\n"NQ-1,40,x\n', 'Quote Not Closed'],
])('%s stops the file, which goes to failed/ beside its reason; the table is unchanged', async (_, content, reason) => {
  const name = 'berth_rates_2030-02-01.csv';
  await deliver(name, 'berth_code,rate,charged\nGW-1,7,by day\n');
  const before = (await files('failed').catch(() => [])).length;
  expect(await deliver(name, content)).toMatchObject({ state: 'failed', reason: expect.stringContaining(reason) });
  expect(await rates('2030-02-01')).toEqual([{ berth_code: 'GW-1', rate: 7, charged: 'by day' }]);
  const now = await files('failed');
  expect(now).toHaveLength(before + 2);
  const told = await Promise.all(
    now.filter((f) => f.endsWith('.why.txt')).map((f) => readFile(folder('failed', f), 'utf8')),
  );
  expect(told.some((t) => t.includes(reason))).toBe(true);
});

test('an empty file, or one with a header only, changes nothing and is recorded', async () => {
  const name = 'berth_rates_2030-03-01.csv';
  await deliver(name, 'berth_code,rate,charged\nGW-1,7,by day\n');
  for (const content of ['', 'berth_code,rate,charged\n'])
    expect(await deliver(name, content)).toMatchObject({ state: 'empty' });
  expect(await rates('2030-03-01')).toHaveLength(1);
});

test('delimiter, decimal sign, byte order mark and an old encoding are found out', async () => {
  const tide = (rows: string) => `\ufefftide_at;height_m\r\n${rows}\r\n`;
  expect(
    await deliver('tide_table_2030-01-01.csv', tide('2030-01-01 06:15;3,25\r\n2030-01-01 12:40;1.204,5')),
  ).toMatchObject({
    state: 'failed',
    reason: expect.stringContaining('does not fit numeric(5,2)'),
  });
  expect(
    await deliver('tide_table_2030-01-02.csv', tide('2030-01-02 06:15;3,25\r\n2030-01-02 12:40;-0,5')),
  ).toMatchObject({ state: 'loaded', rows: '2' });
  expect(
    await landed(`select height_m::float8 as h from landing.tide where day = '2030-01-02' order by tide_at`),
  ).toEqual([{ h: 3.25 }, { h: -0.5 }]);
  await deliver('berth_rates_2030-04-01.csv', Buffer.from('berth_code,rate,charged\nGW-1,7,tägl.\n', 'latin1'));
  expect(await rates('2030-04-01')).toEqual([{ berth_code: 'GW-1', rate: 7, charged: 'tägl.' }]);
});

test('JSON lines: rows that are none are set aside with where they stood', async () => {
  const lines = [
    '{"line_id": 1, "call_no": "C1", "tonnes": 2.5, "marks": {"dangerous": true}}',
    '{"line_id": "two"}',
    'no json',
    '[1]',
    '{"line_id": 5, "goods_code": "a\\tb"}',
  ];
  expect(await deliver('manifest_2030-01-01.jsonl', lines.join('\n'))).toMatchObject({
    state: 'loaded',
    rows: '2',
    rejects: '3',
  });
  expect(
    await landed(
      `select line_id::int, tonnes::float8, marks->>'dangerous' as d, goods_code from landing.manifest where day = '2030-01-01' order by 1`,
    ),
  ).toEqual([
    { line_id: 1, tonnes: 2.5, d: 'true', goods_code: null },
    { line_id: 5, tonnes: null, d: null, goods_code: 'a\tb' },
  ]);
  expect(
    await landed(
      `select line::int, column_name, reason from landing.manifest_rejects where file = 'manifest_2030-01-01.jsonl' order by line`,
    ),
  ).toEqual([
    { line: 2, column_name: 'line_id', reason: 'is not a whole number' },
    { line: 3, column_name: 'line_id', reason: 'the line is not valid JSON' },
    { line: 4, column_name: 'line_id', reason: 'the line is not a JSON object' },
  ]);
});

describe('what became of a file', () => {
  interface List {
    readonly files: (DeliveryView & { id: number })[];
    readonly more: boolean;
  }
  const list = async (query: string) => (await mira.get(`/api/deliveries?${query}`)).body as List;

  /** Releases a change of one file. */
  async function released(name: string, file: string, text: (before: string) => string): Promise<void> {
    const slug = await workspace(mira, name);
    await draft(mira, slug, file, text);
    await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
    const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents: [] });
    const { state, steps } = await mira.ended((body as { id: number }).id);
    expect([state, steps.flatMap((s) => s.error?.message ?? [])]).toEqual(['succeeded', []]);
  }

  test('is found again by part of a name, a table or a reason, page by page', async () => {
    for (const day of ['01', '02', '03'])
      await deliver(`berth_rates_2031-01-${day}.csv`, 'berth_code,rate,charged\nNQ-1,nothing,\n');
    const found = await list('search=2031-01');
    expect(found.files.map((f) => f.file)).toEqual(['03', '02', '01'].map((d) => `berth_rates_2031-01-${d}.csv`));
    expect(found.more).toBe(false);
    expect((await list(`search=2031-01&before=${found.files[0]!.id}`)).files).toHaveLength(2);
    expect((await list(`search=${encodeURIComponent('“NOTHING”')}&state=failed`)).files).toHaveLength(3);
    expect((await list('search=landing.berth_rate&state=unknown')).files).toEqual([]);
    expect((await list(`search=${encodeURIComponent("%_' or true --")}`)).files).toEqual([]);
    expect((await mira.get('/api/deliveries?state=lost')).status).toBe(400);
  });

  test('rows set aside are shown and exported, and taken again once they are sound', async () => {
    const name = 'manifest_2031-02-01.jsonl';
    await deliver(name, '{"line_id": 1}\n{"line_id": "two, \\"2\\""}\n');
    const [file] = (await list(`search=${name}`)).files;
    expect(file).toMatchObject({ state: 'loaded', rows: '1', rejects: '1' });
    const { body } = await mira.get(`/api/deliveries/${file!.id}/rejects`);
    expect(body).toEqual({ rows: [['2', 'line_id', 'two, "2"', 'is not a whole number']], isFull: false });
    const csv = await mira.get(`/api/deliveries/${file!.id}/rejects.csv`);
    expect([csv.headers['content-type'], csv.text]).toEqual([
      'text/csv; charset=utf-8',
      'line,column,value,reason\r\n2,line_id,"two, ""2""",is not a whole number\r\n',
    ]);
    await released('Lines with letters', 'sources/drop.sql', (text) =>
      text.replace(/line_id(\s+)\w+/, 'line_id$1text'),
    );
    expect((await (await application.signIn('jonas')).send('post', `/api/deliveries/${file!.id}/retry`)).status).toBe(
      403,
    );
    const again = (await mira.send('post', `/api/deliveries/${file!.id}/retry`)).body as List;
    expect(again.files[0]).toMatchObject({ file: name, state: 'loaded', rows: '2', rejects: '0' });
    expect((await mira.get(`/api/deliveries/${file!.id}/rejects`)).body).toEqual({ rows: [], isFull: false });
    expect(await landed(`select line_id from landing.manifest where day = '2031-02-01' order by 1`)).toEqual([
      { line_id: '1' },
      { line_id: 'two, "2"' },
    ]);
    await landed(`delete from landing.manifest where day = '2031-02-01'`);
    await released('Lines without letters', 'sources/drop.sql', (text) =>
      text.replace(/line_id(\s+)text/, 'line_id$1bigint'),
    );
  });

  test('a file that only adds rows and comes again adds those that were set aside, and no others', async () => {
    await released(
      'Gauges',
      'sources/gauges.sql',
      () => `create server gauge_files foreign data wrapper file_fdw;
create foreign table landing.gauge (no integer, level numeric) server gauge_files options (pattern 'gauge_*.csv', intake 'incremental', watermark 'no', bad_rows 'set aside');`,
    );
    expect(await deliver('gauge_1.csv', 'no,level\n1,1.5\n2,low\n3,high\n')).toMatchObject({
      state: 'loaded',
      rows: '1',
      rejects: '2',
    });
    await released('Gauges in words', 'sources/gauges.sql', (text) => text.replace('level numeric', 'level text'));
    expect(await deliver('gauge_1.csv', 'no,level\n1,1.5\n2,low\n3,high\n')).toMatchObject({
      state: 'loaded',
      rows: '2',
      rejects: '0',
    });
    expect(await deliver('gauge_1.csv', 'no,level\n1,1.5\n2,low\n3,high\n')).toMatchObject({ state: 'repeated' });
    expect(await landed('select no, level from landing.gauge order by 1')).toEqual([
      { no: 1, level: '1.5' },
      { no: 2, level: 'low' },
      { no: 3, level: 'high' },
    ]);
  });

  test('a key that appears twice is told by its lines', async () => {
    await released(
      'Keys of deliveries',
      'sources/quays.sql',
      () => `create server quay_files foreign data wrapper file_fdw;
create foreign table landing.quay_depth (quay text not null, at numeric not null, depth numeric, primary key (quay, at)) server quay_files options (pattern 'quay_depth*.csv', intake 'incremental', watermark 'at');`,
    );
    const twice = 'quay,at,depth\nn,1.0,5\ns,1,6\nn,1.00,7\ns,2,6\ns,1.000,1\n';
    expect(await deliver('quay_depth_1.csv', twice)).toMatchObject({
      state: 'failed',
      reason: 'lines 2, 4 have the same quay, at “n, 1.0”; lines 3, 6 have the same quay, at “s, 1”',
    });
    expect(await deliver('quay_depth_2.csv', 'quay,at,depth\nn,1,5\n')).toMatchObject({ state: 'loaded' });
    expect(await deliver('quay_depth_3.csv', 'quay,at,depth\nn,2,5\nn,1.0,5\n')).toMatchObject({
      state: 'failed',
      reason: 'rows of this file have a quay, at that already exists in landing.quay_depth',
    });
    const [failed] = (await list('search=quay_depth_3')).files;
    await landed('delete from landing.quay_depth');
    const { body } = await mira.send('post', `/api/deliveries/${failed!.id}/retry`);
    expect((body as List).files[0]).toMatchObject({ file: 'quay_depth_3.csv', state: 'loaded' });
    // It is archived now: the earlier delivery has no file to take again.
    expect((await mira.send('post', `/api/deliveries/${failed!.id}/retry`)).body).toMatchObject({ code: 'file-gone' });
  });
});

test('the demo’s Parquet file has landed; a file’s arrival runs what depends on it', async () => {
  expect(
    await landed(
      `select count(*)::int as n, count(gusts) < count(*) as nulls from landing.weather where day = '2026-03-02'`,
    ),
  ).toEqual([{ n: 24, nulls: expect.any(Boolean) }]);
  const runs = async () =>
    (await mira.get('/api/runs?environment=production')).body as { id: number; person: string; tables: string[] }[];
  const before = (await runs()).length;
  await deliver('berth_rates_2030-05-01.csv', 'berth_code,rate,charged\nGW-9,7,by day\n');
  const [newest] = await runs();
  expect((await runs()).length).toBe(before + 1);
  expect(newest).toMatchObject({ person: expect.stringMatching(/drop folder/i), tables: ['core.berth_rate'] });
  await mira.ended(newest!.id);
});

test('a file that no pattern takes is reported; one that is still being written is not taken', async () => {
  expect(await deliver('surprise.xlsx', 'x')).toMatchObject({
    file: 'surprise.xlsx',
    state: 'unknown',
    table: null,
    reason: 'no table of the project has a pattern that matches this name',
  });
  const name = 'berth_rates_2030-06-01.csv';
  await writeFile(folder(name), 'berth_code,rate,charged\nGW-1,7,by day\n');
  await application.app.get(DeliveryWatcher).look(60_000);
  expect(await readdir(folder())).toContain(name);
  await application.app.get(DeliveryWatcher).look(0);
  expect(await readdir(folder())).not.toContain(name);
});

describe('a file that is sent', () => {
  const send = (client: Client, name: string) =>
    request(application.app.getHttpServer() as Parameters<typeof request>[0])
      .post(`/api/deliveries/file?name=${encodeURIComponent(name)}`)
      .set('cookie', client.cookie)
      .set('x-csrf-token', client.csrf)
      .set('content-type', 'application/octet-stream')
      .send(Buffer.from('berth_code,rate,charged\nGW-1,7,by day\n'));

  test('lands like one that was put there', async () => {
    expect((await send(mira, 'berth_rates_2030-07-01.csv')).status).toBe(204);
    const { body } = await mira.send('post', '/api/deliveries/look');
    expect(
      (body as { files: DeliveryView[] }).files.find((f) => f.file === 'berth_rates_2030-07-01.csv'),
    ).toMatchObject({ state: 'loaded', rows: '1' });
  });
  test.each(['../x.csv', '.x.csv', 'a/b.csv', '..', 'a\\b.csv', ''])('may not be called %j', async (name) =>
    expect((await send(mira, name)).status).toBe(400),
  );
  test('needs a releaser', async () =>
    expect((await send(await application.signIn('jonas'), 'x.csv')).status).toBe(403));
});

test('200,000 rows are loaded as they are read', async () => {
  const body = Readable.from(
    (function* () {
      yield 'berth_code,rate,charged\n';
      for (let i = 0; i < 200; i++)
        yield Array.from({ length: 1000 }, (_, j) => `B-${i}-${j},${(j % 900) + 1}.25,by day\n`).join('');
    })(),
  );
  await application.app.get(DropFolder).receive('berth_rates_2030-08-01.csv', body);
  const { body: looked } = await mira.send('post', '/api/deliveries/look');
  expect(
    (looked as { files: DeliveryView[] }).files.find((f) => f.file === 'berth_rates_2030-08-01.csv'),
  ).toMatchObject({ state: 'loaded', rows: '200000' });
});
