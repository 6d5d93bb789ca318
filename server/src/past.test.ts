import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { IncidentDetail, IncidentList } from '@ouvrage/api/incident';
import type { Commit } from '@ouvrage/api/project';
import type { ReleasedTexts, ReleaseEntry, TodayAnswer } from '@ouvrage/api/release';
import type { Review } from '@ouvrage/api/review';
import type { HarbourDay, PastProgress } from '@ouvrage/api/standin';
import { type Call, dateOf, instantOf, MORNING } from '@ouvrage/demo';
import pg from 'pg';
import { DataSource } from 'typeorm';
import { DEMO_PASSWORD } from './seeder.js';
import { Config } from './shared/config.js';
import { PastService } from './standin/past.service.js';
import { emptyData } from './testing-clusters.js';
import { until } from './testing-process.js';
import { type Client, startApplication, type TestApplication } from './testing.js';

/** The demo's past: some of its days, really run. `npm run long -- past` plays all of them. */
const DAYS = Number(process.env['OUVRAGE_PAST_DAYS'] ?? 5);
/** The days around the slow gate clock, or the last ones, on which the dues office's export does not run. */
const PAST = DAYS === 5 ? { from: 42, to: 47 } : { from: 60 - DAYS, to: 60 };

let application: TestApplication;
let mira: Client;
const calls: Call[] = [];
let end: () => Promise<void>;
/** Requests after which the play is cut off: on its first day, in the middle of a release where it is played around the slow gate. */
const CUT_AFTER = 8;
let interrupted: PastProgress | null;
let before: Readonly<Record<string, number>>;
const query = <T>(sql: string) => application.app.get(DataSource).query<T[]>(sql);

/** Rows that people ask for. What follows by itself is apart: runs after a delivery, checks after a commit. */
const ASKED_FOR = {
  runs: `run where person <> 'Drop folder' and kind <> 'check'`,
  releases: 'release',
  incidents: 'incident',
  workspaces: 'workspace',
};
const counts = async (): Promise<Record<string, number>> => {
  const found: Record<string, number> = {};
  for (const [name, from] of Object.entries(ASKED_FOR))
    found[name] = Number((await query<{ n: string }>(`select count(*) as n from ${from}`))[0]!.n);
  return found;
};

beforeAll(async () => {
  const made = await emptyData(5700);
  end = made.end;
  application = await startApplication(new Config(made.data, 0, true, PAST));
  before = await counts();
  const { port } = application.app.getHttpServer().address() as { port: number };
  const stage = { address: `http://127.0.0.1:${port}`, password: DEMO_PASSWORD, onCall: (c: Call) => calls.push(c) };
  const past = application.app.get(PastService);
  // It is cut off somewhere, as by the end of the process, and goes on from there.
  const cut = (c: Call) => {
    calls.push(c);
    if (calls.length === CUT_AFTER) throw new Error('cut off');
  };
  await past.play({ ...stage, onCall: cut });
  interrupted = await past.progress();
  // A second player finds the first at work, and leaves it alone.
  const playing = past.play(stage);
  await until(
    () => Promise.resolve(calls.length),
    (sent) => sent > CUT_AFTER,
  );
  await past.play({ ...stage, password: 'another' });
  await playing;
  mira = await application.signIn('mira');
}, 1_500_000);
afterAll(async () => {
  await application.close();
  await end();
});

test('cut off in the middle of a day it says so', () => {
  expect(interrupted).toMatchObject({ of: PAST.to - PAST.from, error: 'cut off' });
  expect(interrupted!.played).toBeLessThan(2);
});

test('it is played to its end, and does not begin once more', async () => {
  const { day, time, past } = (await mira.get('/api/harbour')).body as HarbourDay;
  expect({ day, past }).toEqual({ day: PAST.to, past: null });
  expect(Date.parse(time!)).toBeGreaterThanOrEqual(Date.parse(instantOf(PAST.to, '15:00')));
  const sent = calls.length;
  await application.app.get(PastService).play({ address: 'http://127.0.0.1:1', password: '' });
  expect(calls.length).toBe(sent);
});

describe('nothing of it is made otherwise than by requests of the demo’s people', () => {
  const answered = (pattern: RegExp) =>
    calls.filter((c) => c.status < 300 && pattern.test(`${c.method} ${c.path}`)).length;

  test('every request was let in', () =>
    expect(calls.filter((c) => c.status >= 400).map((c) => `${c.person} ${c.method} ${c.path} ${c.status}`)).toEqual(
      [],
    ));

  test('there is a run, a release, an incident, an event for each request that asks for one', async () => {
    const now = await counts();
    expect(Object.fromEntries(Object.entries(now).map(([name, n]) => [name, n - before[name]!]))).toEqual({
      runs: answered(/^POST workspaces\/[^/]+\/(runs|intake|release)$/),
      releases: answered(/release$/),
      incidents: answered(/^POST incidents$/),
      workspaces: answered(/^POST workspaces$/),
    });
    const byPeople = await query<{ kind: string; n: string }>(
      `select kind, count(*) as n from incident_event where person is not null and kind in ('taken', 'remark', 'closed') group by kind order by kind`,
    );
    expect(byPeople.map((r) => [r.kind, Number(r.n)])).toEqual(
      (
        [
          ['closed', /\/close$/],
          ['remark', /incidents\/\d+\/remarks$/],
          ['taken', /\/take$/],
        ] as const
      ).flatMap(([kind, pattern]) => (answered(pattern) > 0 ? [[kind, answered(pattern)]] : [])),
    );
  });
});

/** When things happened, by what stamps them. */
const STAMPS: readonly (readonly [table: string, column: string])[] = [
  ['run', 'created_at'],
  ['run', 'started_at'],
  ['run', 'finished_at'],
  ['run_step', 'finished_at'],
  ['check_result', 'at'],
  ['release', 'at'],
  ['remark', 'at'],
  ['review_verdict', 'at'],
  ['review_request', 'at'],
  ['incident', 'opened_at'],
  ['incident', 'since'],
  ['incident', 'closed_at'],
  ['incident_event', 'at'],
  ['measurement', 'at'],
  ['delivery', 'at'],
  ['message', 'at'],
  ['sending', 'sent_at'],
  ['outbox_entry', 'at'],
  ['workspace', 'created_at'],
  ['draft', 'updated_at'],
];
/** Work that is under way when the clock is set comes to its end a little later. */
const SLACK = "interval '30 minutes'";
test.each(STAMPS)('%s.%s is of the demo’s clock', async (table, column) => {
  const [row] = await query<{ early: string; late: string }>(
    `select count(*) filter (where ${column} < timestamptz '${instantOf(PAST.from, MORNING)}') as early,
            count(*) filter (where ${column} > clock_now() + ${SLACK}) as late from ${table}`,
  );
  expect(row).toEqual({ early: '0', late: '0' });
});

test('sessions are of the real time, commits of the demo’s', async () => {
  const [session] = await query<{ latest: Date }>('select max(expires_at) as latest from session');
  expect(session!.latest.getTime()).toBeGreaterThan(Date.now());
  const commits = (await mira.get('/api/workspaces/production/commits')).body as Commit[];
  for (const { at } of commits) expect(Date.parse(at)).toBeLessThan(Date.parse(instantOf(PAST.to + 1, MORNING)));
});

test('runs take the time that they took', async () => {
  const [row] = await query<{ longest: string }>(
    'select max(extract(epoch from finished_at - started_at)) as longest from run',
  );
  expect(Number(row!.longest)).toBeLessThan(600);
});

test('facts of the days that were played join the versions of their time', async () => {
  const client = new pg.Client(application.config.warehouse.production);
  await client.connect();
  const { rows } = await client
    .query<{ all: string; valid: string }>(
      `select count(*) as all, count(*) filter (where f.invoiced_on >= v.valid_from and f.invoiced_on < coalesce(v.valid_to, 'infinity')) as valid
       from core.fact_dues f join core.dim_vessel v using (vessel_key) where f.invoiced_on > date '${dateOf(PAST.from)}'`,
    )
    .finally(() => client.end());
  expect(Number(rows[0]!.all)).toBeGreaterThan(10);
  expect(rows[0]!.valid).toBe(rows[0]!.all);
});

const incidents = async () => ((await mira.get('/api/incidents')).body as IncidentList).incidents;

// The slow gate clock lies within the days of both.
test('a load broke, was mended by a release with an example, and its incident closed with what was learned', async () => {
  const found = (await incidents()).find((i) => i.subjects.some((s) => s.table === 'core.fact_call'));
  const detail = (await mira.get(`/api/incidents/${found!.id}`)).body as IncidentDetail;
  expect(detail).toMatchObject({ state: 'closed', severity: 'high', lead: { name: 'jonas' } });
  expect(detail.learned).toContain('Gate clocks go wrong');
  expect(detail.events.map((e) => e.kind)).toEqual(
    expect.arrayContaining(['taken', 'remark', 'release', 'verdict', 'closed']),
  );
  const { builds, releases, broken } = (await mira.get('/api/workspaces/production/today')).body as TodayAnswer;
  expect(builds.map((b) => b.state)).toContain('failed');
  expect(releases).toHaveLength(2);
  expect(broken).toEqual([]);
  const examples = (await mira.get('/api/workspaces/production/examples?table=staging.call')).body as {
    name: string;
    verdict: string;
  }[];
  expect(examples.map((e) => e.name)).toContain('left before it came');
});

test('its release was reviewed: a remark on a line, its answer, an approval by another person', async () => {
  const [release] = ((await mira.get('/api/releases')).body as ReleaseEntry[]).filter(
    (r) => r.workspace === 'gate-clock',
  );
  expect(release!.review).toMatchObject({ authors: ['Jonas Reet'], override: null });
  expect(release!.review!.verdicts.map((v) => [v.person, v.word])).toEqual([['Mira Okafor', 'approved']]);
  const { remarks } = (await mira.get('/api/workspaces/gate-clock/review')).body as Review;
  expect(remarks.map((r) => [r.person, r.place.kind, r.answers.map((a) => a.person), r.resolved?.person])).toEqual([
    ['Mira Okafor', 'line', ['Jonas Reet'], 'Mira Okafor'],
  ]);
  const { body } = await mira.get(`/api/releases/${release!.id}/file?path=staging/call.sql`);
  expect(new Set((body as ReleasedTexts).authors)).toEqual(new Set(['Ouvrage', 'Jonas Reet']));
});

const ofLastDays = PAST.to === 60 ? test : test.skip;
ofLastDays('at its end a source is late, a measure unusual, a file failed, an incident in hand', async () => {
  const today = (await mira.get('/api/workspaces/production/today')).body as TodayAnswer;
  expect(today.late.map((l) => l.table)).toEqual(['landing.dues_invoice']);
  expect(today.failedFiles.map((f) => f.file.replace(/_[\d-]+\./, '.'))).toContain('tide_table.csv');
  expect(today.incidents).toMatchObject([{ state: 'in hand', lead: { name: 'mira' } }]);
  expect(today.reviews).toMatchObject([{ name: 'Largest lots', by: 'Jonas Reet' }]);
  const findings = (await mira.get('/api/watches')).body as { table: string; measure: string }[];
  expect(findings.map((f) => `${f.table} ${f.measure}`)).toContain('landing.dues_invoice age');
  const begun = (await mira.get('/api/workspaces/dues-by-rate/today')).body as TodayAnswer;
  expect(begun.lastRun).toMatchObject({ kind: 'build', state: 'succeeded' });
  expect(begun.drafts.map((d) => d.path)).toEqual([
    'core/dim_berth.sql',
    'core/dim_vessel.sql',
    'mart/vessel_dues.sql',
  ]);
  expect(begun.errors.map((e) => `${e.path}: ${e.message}`)).toEqual([
    'mart/berth_occupancy.sql: b has no column terminal_name',
  ]);
});

test('the clock goes forward within a day, and no further', async () => {
  const { time } = (await mira.get('/api/harbour')).body as HarbourDay;
  const at = (hours: number) => new Date(Date.parse(time!) + hours * 3_600_000).toISOString();
  expect((await mira.send('put', '/api/harbour/clock', { time: at(-1) })).status).toBe(422);
  expect((await mira.send('put', '/api/harbour/clock', { time: at(48) })).status).toBe(422);
  expect((await mira.send('put', '/api/harbour/clock', { time: 'soon' })).status).toBe(400);
  expect((await mira.send('put', '/api/harbour/clock', { time: at(2) })).status).toBe(204);
  const { headers } = await mira.get('/api/harbour');
  expect(Number(headers['ouvrage-clock'])).toBeCloseTo(Date.parse(at(2)) - Date.now(), -4);
  await mira.send('post', '/api/harbour/advance', { days: 1 });
  const moved = (await mira.get('/api/harbour')).body as HarbourDay;
  expect(moved.day).toBe(PAST.to + 1);
  expect(Date.parse(moved.time!)).toBeGreaterThanOrEqual(Date.parse(instantOf(PAST.to + 1, MORNING)));
});

test('the clock waits for what goes on in production with one connection, however often it is asked', async () => {
  const { time } = (await mira.get('/api/harbour')).body as HarbourDay;
  const client = new pg.Client(application.config.application);
  await client.connect();
  try {
    await client.query("select pg_advisory_lock(1869968759, hashtext('production'))");
    const asked = Array.from({ length: 8 }, (_, i) =>
      mira.send('put', '/api/harbour/clock', { time: new Date(Date.parse(time!) + (i + 1) * 600_000).toISOString() }),
    );
    const answers = Promise.all(asked.map(async (a) => (await a).status));
    const waiting = async () =>
      Number(
        (
          await query<{ n: string }>("select count(*) as n from pg_locks where locktype = 'advisory' and not granted")
        )[0]!.n,
      );
    await until(waiting, (n) => n > 0);
    expect(await waiting()).toBe(1);
    await client.query("select pg_advisory_unlock(1869968759, hashtext('production'))");
    // Whichever comes first, none goes back.
    expect((await answers).every((status) => [204, 422].includes(status))).toBe(true);
  } finally {
    await client.end();
  }
});
