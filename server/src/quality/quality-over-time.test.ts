import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { CheckSeries, QualityDay, QualityDays } from '@ouvrage/api/quality';
import { DataSource } from 'typeorm';
import { draft, runTables, startApplication, workspace, type Client, type TestApplication } from '../testing.js';

/** Verdicts by days and over time, of runs whose times are moved into the past. */
let application: TestApplication;
let mira: Client;
let slug: string;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  slug = await workspace(mira, 'Over time');
});
afterAll(() => application.close());

const ID = 'checks/tides_are_high';
const at = () => `/api/workspaces/${slug}`;
const days = async (query = '') => (await mira.get(`${at()}/quality/days?${query}`)).body as QualityDays;
const series = async () => (await mira.get(`${at()}/quality/series?id=${encodeURIComponent(ID)}`)).body as CheckSeries;

/** Writes the check, loads its table, and says that all this was some days ago. */
async function played(daysAgo: number, least: number): Promise<number> {
  await draft(
    mira,
    slug,
    `${ID}.sql`,
    () =>
      `create view checks.tides_are_high with (about = 'core.tides') as\nselect n from core.tides where n < ${least};\n`,
  );
  await draft(
    mira,
    slug,
    'core/tides.sql',
    () => `create table core.tides (n integer not null);\nselect n from generate_series(1, ${10 + daysAgo}) n;\n`,
  );
  const { id } = await runTables(mira, slug, ['core.tides']);
  const database = application.app.get(DataSource);
  const ago = `interval '${daysAgo} days'`;
  await database.query(
    `update run_step set started_at = started_at - ${ago}, finished_at = finished_at - ${ago} where run_id = $1`,
    [id],
  );
  await database.query(
    `update check_result set at = at - ${ago} where step_id in (select id from run_step where run_id = $1)`,
    [id],
  );
  return id;
}

describe('a table whose check broke', () => {
  const runs: number[] = [];
  beforeAll(async () => {
    for (const [daysAgo, least] of [
      [6, 1],
      [5, 1],
      [3, 4],
      [2, 4],
    ] as const)
      runs.push(await played(daysAgo, least));
  });
  const verdictsOf = (found: QualityDays, table: string) => found.tables.find((t) => t.table === table)?.verdicts;
  test('has a verdict a day, and none on days on which nothing ran', async () => {
    const found = await days('days=7');
    expect(found).toMatchObject({ environment: slug, zone: 'UTC' });
    expect(found.days).toHaveLength(7);
    expect(found.days[6]).toBe(new Date().toISOString().slice(0, 10));
    expect(verdictsOf(found, 'core.tides')).toEqual(['holds', 'holds', null, 'broken', 'broken', null, null]);
    expect(verdictsOf(await days('days=2'), 'core.tides')).toBeUndefined();
  });
  test('a day is that of the zone', async () => {
    const [east, west] = [await days('days=9&zone=Pacific/Kiritimati'), await days('days=9&zone=Pacific/Niue')];
    expect(east.days.at(-1)! > west.days.at(-1)!).toBe(true);
    for (const found of [east, west])
      expect(
        verdictsOf(found, 'core.tides')!
          .filter((v) => v !== null)
          .join(' '),
      ).toBe('holds holds broken broken');
    expect((await mira.get(`${at()}/quality/days?zone=Mare/Imbrium`)).status).toBe(400);
  });
  test('says what ran on a day', async () => {
    const found = await days('days=7');
    const { body } = await mira.get(`${at()}/quality/day?table=core.tides&day=${found.days[3]}`);
    const { results, loads } = body as QualityDay;
    expect(results.map((r) => [r.id, r.verdict, r.atFault, r.run])).toContainEqual([ID, 'broken', '3', runs[2]]);
    expect(loads.map((l) => [l.run, l.state, l.rows])).toEqual([[runs[2], 'done', '13']]);
  });
  test('says since when, and what was loaded before', async () => {
    const { points, failing, releases } = await series();
    expect(points.map((p) => [p.run, p.verdict, p.atFault])).toEqual([
      [runs[0], 'holds', '0'],
      [runs[1], 'holds', '0'],
      [runs[2], 'broken', '3'],
      [runs[3], 'broken', '3'],
    ]);
    expect(releases).toEqual([]);
    expect(failing).toMatchObject({ run: runs[2], results: 2, since: points[2]!.at, held: points[1]!.at });
    expect(failing!.loads).toMatchObject([{ table: 'core.tides', run: runs[2], rows: '13', rowsBefore: '15' }]);
    expect(failing!.files).toEqual([]);
  });
  test('names files that were loaded in between, no others', async () => {
    const { failing } = await series();
    const before = (seconds: number, of = failing!.held!) => new Date(Date.parse(of) - 1000 * seconds);
    const came = (file: string, when: Date, state = 'loaded', table = 'core.tides') =>
      application.app
        .get(DataSource)
        .query(
          `insert into delivery (file, table_name, digest, state, bytes, rows, at) values ($1, $2, $1, $3, 1, 9, $4)`,
          [file, table, state, when],
        );
    await came('earlier.csv', before(1));
    await came('between.csv', before(0, failing!.since));
    await came('failed.csv', before(0, failing!.since), 'failed');
    await came('of_another.csv', before(0, failing!.since), 'loaded', 'core.dim_date');
    expect((await series()).failing!.files).toMatchObject([{ table: 'core.tides', file: 'between.csv', rows: '9' }]);
    await application.app
      .get(DataSource)
      .query(`delete from delivery where table_name in ('core.tides', 'core.dim_date')`);
  });
  test('is a file: every verdict as CSV, the newest as JUnit', async () => {
    const csv = await mira.get(`${at()}/quality/export?format=csv&days=4`);
    expect(csv.headers['content-disposition']).toContain(`quality_${slug}.csv`);
    expect(csv.text.split('\r\n').filter((l) => l.includes(ID)).length).toBe(2);
    const junit = await mira.get(`${at()}/quality/export?format=junit`).buffer(true);
    expect(String(junit.text ?? junit.body)).toMatch(
      /<testcase classname="core.tides" name="tides are high"><failure type="broken" message="3 rows at fault[^"]*"\/>/,
    );
  });
});

test('what stopped a load leaves a day not run', async () => {
  await draft(
    mira,
    slug,
    'core/broken_load.sql',
    () =>
      'create table core.broken_load (n integer);\nselect 1 / (count(*) - 1)::integer as n from generate_series(1, 1) g;\n',
  );
  await runTables(mira, slug, ['core.broken_load']);
  const found = (await days('days=1')).tables.find((t) => t.table === 'core.broken_load');
  expect(found?.verdicts).toEqual(['not run']);
  const { body } = await mira.get(`${at()}/quality/day?table=core.broken_load&day=${(await days()).days.at(-1)}`);
  expect((body as QualityDay).loads).toMatchObject([{ state: 'failed', error: 'division by zero' }]);
});

test('a check that does not exist has no series', async () => {
  expect((await mira.get(`${at()}/quality/series?id=checks/none`)).status).toBe(404);
});
