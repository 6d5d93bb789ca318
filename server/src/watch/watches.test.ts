import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { IncidentDetail } from '@ouvrage/api/incident';
import type { WatchFinding, WatchSeries } from '@ouvrage/api/watch';
import { measuring } from '@ouvrage/core/watch';
import { DataSource } from 'typeorm';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Measures of a table over weeks of daily loads, whose days are moved into the past as they are made. */
let application: TestApplication;
let mira: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

const TABLE = 'core.gauges';
const ask = <T>(sql: string, values: readonly unknown[] = []): Promise<T[]> =>
  application.app.get(DataSource).query(sql, [...values]);
const findings = async () => ((await mira.get('/api/watches')).body as WatchFinding[]).filter((f) => f.table === TABLE);
const series = async (measure: string) =>
  ((await mira.get(`/api/watches/series?table=${TABLE}`)).body as WatchSeries[]).find((s) => s.measure === measure)!;
const teach = (body: object, client = mira) => client.send('post', '/api/watches/lessons', { table: TABLE, ...body });

/** Waits until a question has an answer. */
async function awaited(sql: string, values: readonly unknown[]): Promise<void> {
  for (let i = 0; i < 500; i++) {
    if ((await ask(sql, values)).length > 0) return;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  throw new Error(`nothing came of ${sql}`);
}
/** Waits for a run's end and for what follows it. */
async function followed(id: number) {
  const run = await mira.ended(id);
  await awaited('select from run where id = $1 and followed', [id]);
  return run;
}
async function release(files: Readonly<Record<string, string>>, message: string): Promise<void> {
  const slug = await workspace(mira, message);
  for (const [path, text] of Object.entries(files)) await draft(mira, slug, path, () => text);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message });
  const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message });
  const run = await followed((body as { id: number }).id);
  expect([run.state, run.error]).toEqual(['succeeded', null]);
  await awaited(`select from watch_lesson where table_name = $1 and at > now() - interval '1 minute'`, [TABLE]);
}
/** A day passes, and the table is loaded. */
async function loaded(): Promise<number> {
  for (const table of ['measurement', 'watch_lesson'])
    await ask(`update ${table} set at = at - interval '1 day' where table_name = $1`, [TABLE]);
  const asked = { tables: [TABLE], upstream: false, downstream: false };
  const { body } = await mira.send('post', '/api/workspaces/production/runs', asked);
  const { id } = body as { id: number };
  expect((await mira.ended(id)).state).toBe('succeeded');
  await awaited('select from measurement where run_id = $1', [id]);
  return id;
}
/** The input has so many rows, of which a share has no level. */
const input = (rows: number, without = 0.1) =>
  warehouse(
    `truncate core.gauge_input; insert into core.gauge_input select n, case when n % 100 >= ${Math.round(100 * without)} then n % 17 + 0.5 end from generate_series(1, ${rows}) n`,
  );
const gauges = (condition: string) =>
  `create table core.gauges (n integer not null, level numeric, keeper text options (sensitive 'personal')) with (load = rebuild);\nselect n, level, 'Keeper ' || n as keeper from core.gauge_input where ${condition};\n`;

test.each([
  [280, false, 0.02],
  [1900, true, 0.25],
  [200_000, true, 0.25],
])('frequencies of a table of %p rows, sampled: %p', async (rows, isSampled, within) => {
  await warehouse(
    `drop table if exists core.frequencies; create table core.frequencies as select n, case when n % 2 = 0 then 'often' else 'rare ' || n end as word, case when n % 5 > 0 then n % 4 end as few, cast(n % 10 as money) as price, n * interval '1 hour' as stay, n % 2 = 0 as is_even, cast(null as date) as gone from generate_series(1, ${rows}) n; analyze core.frequencies`,
  );
  const columns = [
    { name: 'n', type: 'integer' },
    { name: 'word', type: 'text' },
    { name: 'few', type: 'integer' },
    { name: 'price', type: 'money' },
    { name: 'stay', type: 'interval' },
    { name: 'is_even', type: 'boolean' },
    { name: 'gone', type: 'date' },
  ];
  const asked = measuring(columns, { schema: 'core', name: 'frequencies' }, { rows, milliseconds: 10 });
  expect(asked.isSampled).toBe(isSampled);
  const [found] = await warehouse<Record<string, string | null>>(asked.sql);
  const values = Object.values(found!).map((v) => (v === null ? null : Number(v)));
  const of = (name: string) => values[asked.names.indexOf(name)];
  expect(values).toHaveLength(asked.names.length);
  expect(of('distinct share of n')).toBe(1);
  expect(Math.abs(of('distinct share of word')! - 0.5)).toBeLessThan(within);
  expect(Math.abs(of('top-ten share of word')! - 0.5 - 9 / (isSampled ? asked.toldApart : rows))).toBeLessThan(within);
  expect(of('top-ten share of few')).toBe(1);
  expect(Math.abs(of('null share of few')! - 0.2)).toBeLessThan(within);
  expect(of('top-ten share of price')).toBe(1);
  expect([of('distinct share of stay'), of('top-ten share of is_even')]).toEqual([1, 1]);
  expect([of('distinct share of gone'), of('top-ten share of gone'), of('null share of gone')]).toEqual([
    null,
    null,
    1,
  ]);
  if (isSampled) expect(of('top-ten share of n')).toBeCloseTo(10 / asked.toldApart, 3);
});

describe('a table that is loaded every day', () => {
  beforeAll(async () => {
    await release(
      {
        'core/gauge_input.sql':
          "create table core.gauge_input (n integer not null, level numeric) with (load = merge, business_key = 'n');\nselect 1 as n, 1.5 as level;\n",
        'core/gauges.sql': gauges('n > 0'),
      },
      'Gauges',
    );
    for (let day = 0; day < 18; day++) {
      await input(600 + ((day * 37) % 29));
      await loaded();
    }
  });
  test('is measured with each load: rows, shares and quantities, and no value of what is sensitive', async () => {
    const rows = await series('rows');
    expect(rows.points.map((p) => p.value).slice(0, 2)).toEqual([600, 608]);
    expect(rows.points.map((p) => p.verdict)).toEqual([
      ...Array<string>(14).fill('silent'),
      ...Array<string>(4).fill('inside'),
    ]);
    expect(rows.expected).toMatchObject({ by: 'level', from: 18 });
    expect([rows.expected!.least < 590, rows.expected!.least > 480]).toEqual([true, true]);
    expect((await series('null share of level')).points[0]!.value).toBeCloseTo(0.1, 5);
    expect((await series('mean level')).points[0]!.value).toBeGreaterThan(1);
    expect((await series('distinct share of level')).points[0]!.value).toBeCloseTo(17 / 540, 5);
    expect((await series('top-ten share of keeper')).points[0]!.value).toBeCloseTo(10 / 600, 5);
    const [kept] = await ask<{ values: object }>('select "values" from measurement where table_name = $1 limit 1', [
      TABLE,
    ]);
    const ofKeeper = Object.keys(kept!.values).filter((k) => k.includes('keeper'));
    expect(ofKeeper.sort()).toEqual(['distinct share of keeper', 'null share of keeper', 'top-ten share of keeper']);
    expect(await findings()).toEqual([]);
  });
  test('a loss of rows is told at the first load, and until it is taught', async () => {
    await input(390);
    const run = await loaded();
    expect(await findings()).toMatchObject([{ measure: 'rows', value: 390, by: 'level', from: 18, run }]);
    expect((await series('rows')).points.at(-1)).toMatchObject({ verdict: 'outside', value: 390 });
    const opened = await mira.send('post', '/api/incidents', { kind: 'measure', subject: `${TABLE}/rows` });
    const incident = (opened.body as { id: number }).id;
    expect(opened.body).toMatchObject({
      title: 'core.gauges: rows not as expected',
      now: [{ verdict: 'advisory' }],
    });
    expect((await teach({ measure: 'rows' })).status).toBe(204);
    expect(await findings()).toEqual([]);
    await input(393);
    await loaded();
    expect(await findings()).toEqual([]);
    expect((await series('rows')).points.at(-1)!.verdict).toBe('silent');
    for (let day = 0; day < 14; day++) {
      await input(393 + day);
      await loaded();
    }
    await awaited(`select from incident_event where text = '406'`, []);
    const { events, now } = (await mira.get(`/api/incidents/${incident}`)).body as IncidentDetail;
    expect(events.map((e) => [e.kind, e.verdict, e.text])).toEqual([
      ['opened', null, null],
      ['verdict', 'holds', '405'],
      ['verdict', 'holds', '406'],
    ]);
    expect(now).toMatchObject([{ verdict: 'holds' }]);
  });
  test('twice the nulls are told, and nothing of them until a day where it is said so', async () => {
    await input(392, 0.3);
    await loaded();
    expect(await findings()).toMatchObject([{ measure: 'null share of level' }]);
    const until = new Date(Date.now() + 5 * 86_400_000).toISOString().slice(0, 10);
    expect((await teach({ measure: 'null share of level', until })).status).toBe(204);
    expect(await findings()).toEqual([]);
    await input(391, 0.31);
    await loaded();
    expect(await findings()).toEqual([]);
    expect((await series('null share of level')).points.at(-1)!.verdict).toBe('ignored');
  });
  test('a release that changes it begins anew; checks alone teach nothing', async () => {
    const before = (await series('rows')).points.length;
    const { body } = await mira.send('post', '/api/workspaces/production/checks', { tables: [TABLE], checks: [] });
    await followed((body as { id: number }).id);
    await release({ 'core/gauges.sql': gauges('n > 200') }, 'Fewer gauges');
    expect((await series('rows')).points.length).toBe(before);
    await loaded();
    const rows = await series('rows');
    expect([rows.points.at(-1)!.verdict, rows.points.at(-1)!.value, rows.expected]).toEqual(['silent', 191, null]);
  });
});

describe('what is asked in vain', () => {
  test.each<[string, object, number]>([
    ['a table that does not exist', { table: 'core.nothing', measure: 'rows' }, 404],
    ['a measure that was never taken', { measure: 'tides' }, 404],
    ['a day that is none', { measure: 'rows', until: '2026-02-30' }, 400],
    ['no measure', {}, 400],
  ])('%s', async (_, body, status) => expect((await teach(body)).status).toBe(status));
  test('a viewer teaches nothing', async () =>
    expect((await teach({ measure: 'rows' }, await application.signIn('vera'))).status).toBe(403));
});

test('stop_on = rows: a load with an unusual number of rows changes nothing, until they are ignored', async () => {
  const table = 'core.flows';
  const slug = await workspace(mira, 'Flows');
  await draft(
    mira,
    slug,
    'core/flows.sql',
    () => `create table ${table} (n integer) with (load = rebuild, stop_on = rows);\nselect n from core.gauge_input;\n`,
  );
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Flows' });
  await input(1000);
  const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'Flows' });
  expect((await followed((body as { id: number }).id)).state).toBe('succeeded');
  const load = async () => {
    for (const kept of ['measurement', 'watch_lesson'])
      await ask(`update ${kept} set at = at - interval '1 day' where table_name = $1`, [table]);
    const asked = { tables: [table], upstream: false, downstream: false };
    const answer = await mira.send('post', '/api/workspaces/production/runs', asked);
    const run = await mira.ended((answer.body as { id: number }).id);
    if (run.state === 'succeeded') await awaited('select from measurement where run_id = $1', [run.id]);
    return run;
  };
  for (let day = 0; day < 16; day++) {
    await input(1000 + ((day * 31) % 23));
    expect((await load()).state).toBe('succeeded');
  }
  await input(400);
  const stopped = await load();
  expect([stopped.state, stopped.steps[0]!.error?.message]).toEqual([
    'failed',
    expect.stringMatching(/^400 rows are unusual: [\d,]+ to [\d,]+ are expected$/),
  ]);
  const rows = async () => Number((await warehouse<{ n: string }>(`select count(*) as n from ${table}`))[0]!.n);
  expect(await rows()).toBeGreaterThan(900);
  const until = new Date(Date.now() + 2 * 86_400_000).toISOString().slice(0, 10);
  await mira.send('post', '/api/watches/lessons', { table, measure: 'rows', until });
  expect((await load()).state).toBe('succeeded');
  expect(await rows()).toBe(400);
});

test('a view is measured once after a run that loaded what it shows, not where that takes too long', async () => {
  const slug = await workspace(mira, 'Views');
  const view = (name: string, query: string) =>
    draft(
      mira,
      slug,
      `core/${name}.sql`,
      () => `create table core.${name} (n integer) with (load = view);\n${query};\n`,
    );
  await draft(
    mira,
    slug,
    'core/buoys.sql',
    () => 'create table core.buoys (n integer) with (load = rebuild);\nselect n from core.gauge_input;\n',
  );
  await view('shown_buoys', 'select n from core.buoys where n > 10');
  await view('buoys_over_it', 'select n from core.shown_buoys where n > 20');
  await view(
    'slow_buoys',
    'select (select count(*) from generate_series(1, 3000000) as g where g % 7 = n % 7)::integer as n from core.buoys where n > 98',
  );
  await view('other_gauges', 'select n from core.gauge_input');
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Views' });
  await input(100);
  const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'Views' });
  expect(body).toMatchObject({ id: expect.any(Number) });
  expect((await followed((body as { id: number }).id)).state).toBe('succeeded');
  const asked = { tables: ['core.buoys'], upstream: false, downstream: false };
  const answer = await mira.send('post', '/api/workspaces/production/runs', asked);
  const run = await followed((answer.body as { id: number }).id);
  const measured = await ask<{ table: string; rows: number; distinct: number }>(
    `select table_name as table, ("values" ->> 'rows')::integer as rows, ("values" ->> 'distinct share of n')::float8 as distinct from measurement where run_id = $1 order by table_name`,
    [run.id],
  );
  expect(measured).toEqual([
    { table: 'core.buoys', rows: 100, distinct: 1 },
    { table: 'core.buoys_over_it', rows: 80, distinct: 1 },
    { table: 'core.shown_buoys', rows: 90, distinct: 1 },
  ]);
});
