import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals';
import type { JobEntry, JobStartEntry } from '@ouvrage/api/job';
import type { SessionAnswer } from '@ouvrage/api/people';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import request from 'supertest';
import { DataSource } from 'typeorm';
import { DeliveryWatcher } from '../delivery/delivery-watcher.js';
import { Config } from '../shared/config.js';
import { setClockOffset } from '../shared/time.js';
import { emptyData } from '../testing-clusters.js';
import { startApplication, warehouse, type TestApplication } from '../testing.js';
import { JobService } from './job.service.js';

/** Jobs of production under a clock of the test's own. */
let application: TestApplication;
let other: TestApplication;
let end: () => Promise<void>;
let ask: <T>(method: 'get' | 'post' | 'put', where: string, body?: object) => Promise<{ status: number; body: T }>;
const folder = process.env['OUVRAGE_DATA'];

/** Takes a second for each 5 to 10 million rows. */
const slow = (millions: number) => `select count(*)::integer as n from generate_series(1, ${millions}000000)`;
const LAYERS = 'create schema landing; create schema core; create schema mart;';
const table = (name: string, query: string) => `create table ${name} (n integer) with (load = rebuild);\n${query};\n`;
const job = (name: string, tables: string, options: string) =>
  `create publication ${name} for table ${tables} with (${options});\ncomment on publication ${name} is 'What ${name} is for.';\n`;

beforeAll(async () => {
  const made = await emptyData(5747);
  end = made.end;
  process.env['OUVRAGE_DATA'] = made.data;
  const config = new Config(made.data, 0, false);
  application = await startApplication(config);
  other = await startApplication(config);
  const server = application.app.getHttpServer() as Parameters<typeof request>[0];
  const code = readFileSync(path.join(made.data, 'setup-code.txt'), 'utf8').trim();
  const person = { code, name: 'ines', displayName: 'Ines Falk', password: 'quay lantern forty ribbon' };
  const signedIn = await request(server).post('/api/setup').send(person);
  const cookie = (signedIn.headers['set-cookie'] as unknown as string[])[0]!.split(';')[0]!;
  const { csrf } = signedIn.body as SessionAnswer;
  ask = async (method, where, body) => {
    const asked = request(server)[method](`/api/${where}`).set('cookie', cookie).set('x-csrf-token', csrf!);
    const answer = await (body === undefined ? asked : asked.send(body));
    return { status: answer.status, body: answer.body as never };
  };
}, 240_000);
afterAll(async () => {
  setClockOffset(0);
  await other.close();
  await application.close();
  await end();
  process.env['OUVRAGE_DATA'] = folder;
});

/** Sets the clock: what the day is does not matter, as each test goes on from the one before. */
const at = (time: string) => setClockOffset(Date.parse(time) - Date.now());
const look = (of = application) => of.app.get(JobService).look();
afterEach(async () => {
  // What one test started is over before the next one begins.
  for (const { name } of await jobs()) await quiet(name);
});

const jobs = async () => (await ask<JobEntry[]>('get', 'jobs')).body;
const one = async (name: string) => (await jobs()).find((j) => j.name === name)!;
const starts = async (name: string) => (await one(name)).starts;
const told = (s: JobStartEntry) => [s.cause, s.state, s.run?.state ?? s.reason];

/** Waits until nothing of a job waits or runs. */
async function quiet(name: string): Promise<readonly JobStartEntry[]> {
  for (let n = 0; n < 300; n++) {
    await look();
    const found = await starts(name);
    if (!found.some((s) => s.state === 'started' || s.state === 'waiting')) return found;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  throw new Error(`${name} goes on: ${JSON.stringify(await starts(name))}`);
}

/** Releases files, and waits until production has them. */
async function release(files: Readonly<Record<string, string | null>>): Promise<void> {
  const { slug } = (await ask<{ slug: string }>('post', 'workspaces', { name: 'Jobs' })).body;
  for (const [file, text] of Object.entries(files))
    expect((await ask('put', `workspaces/${slug}/drafts`, { path: file, text, version: 0 })).status).toBe(200);
  await ask('post', `workspaces/${slug}/commits`, { message: 'Jobs' });
  const { losses } = (await ask<{ losses: { of: string }[] }>('get', `workspaces/${slug}/comparison`)).body;
  const asked = { message: 'Jobs', consents: losses.map((l) => l.of) };
  const { body, status } = await ask<{ id: number }>('post', `workspaces/${slug}/release`, asked);
  expect([status, body]).toEqual([201, expect.objectContaining({ state: 'queued' })]);
  for (let state = 'queued'; state !== 'succeeded';) {
    state = (await ask<{ state: string; error: string }>('get', `runs/${body.id}`)).body.state;
    if (['failed', 'stopped', 'interrupted'].includes(state))
      throw new Error(JSON.stringify((await ask('get', `runs/${body.id}`)).body));
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

test('there are none in an empty project, and none of a name that nobody knows', async () => {
  expect(await jobs()).toEqual([]);
  expect((await ask<{ detail: string }>('post', 'jobs/nightly/start')).status).toBe(404);
});

describe('the clock', () => {
  beforeAll(async () => {
    at('2027-01-04T12:00:00Z');
    await release({
      'layers.sql': LAYERS,
      'core/a.sql': table('core.a', 'select 1 as n'),
      'core/b.sql': table('core.b', 'select n from core.a'),
      'mart/c.sql': table('mart.c', 'select n from core.b'),
      'jobs/nightly.sql': job('nightly', 'core.b', `at = '30 4 * * *', time_zone = 'Europe/Paris'`),
      'jobs/afterwards.sql': job('afterwards', 'mart.c', `after = 'nightly', needs = none`),
      'jobs/strict.sql': job('strict', 'core.a', `at = '0 * * * *', when_missed = skip`),
    });
    await look();
  }, 120_000);

  test('what a job is, and when it starts next', async () => {
    expect(await one('nightly')).toMatchObject({
      ...{ comment: 'What nightly is for.', words: 'each day at 04:30, Paris time', tables: ['core.b'], error: null },
      next: ['2027-01-05T03:30:00.000Z', '2027-01-06T03:30:00.000Z', ...Array<unknown>(3).fill(expect.anything())],
      ...{ paused: null, starts: [] },
    });
    expect(await one('afterwards')).toMatchObject({ words: null, next: [], after: ['nightly'], needs: 'none' });
  });

  test('starts a job once, however many processes look and however the clock is turned; what comes after it follows', async () => {
    at('2027-01-05T03:29:59Z');
    await look();
    expect(await starts('nightly')).toEqual([]);
    at('2027-01-05T03:30:01Z');
    await Promise.all([look(), look(other), look(), look(other)]);
    expect((await quiet('nightly')).map(told)).toEqual([['clock', 'ended', 'succeeded']]);
    expect((await quiet('afterwards')).map(told)).toEqual([['after', 'ended', 'succeeded']]);
    for (const time of ['2027-01-05T02:00:00Z', '2027-01-05T03:30:01Z', '2027-01-05T03:40:00Z']) {
      at(time);
      await Promise.all([look(), look(other)]);
    }
    expect((await quiet('nightly')).map(told)).toEqual([['clock', 'ended', 'succeeded']]);
    const [start] = await starts('nightly');
    const { body: run } = await ask<{ job: string; person: string; tables: string[] }>('get', `runs/${start!.run!.id}`);
    expect(run).toMatchObject({ job: 'nightly', person: 'job nightly', tables: ['core.b'] });
  });

  test('what was missed starts once for all, or not at all, as the job says', async () => {
    at('2027-01-09T10:20:00Z');
    await look();
    const [missed] = await quiet('nightly');
    expect([told(missed!), missed!.scheduledAt]).toEqual([['clock', 'ended', 'succeeded'], '2027-01-09T03:30:00.000Z']);
    expect((await starts('nightly')).length).toBe(2);
    expect(told((await starts('strict'))[0]!)).toEqual(['clock', 'skipped', 'missed while the server was not running']);
    at('2027-01-09T11:00:30Z');
    await look();
    expect(told((await quiet('strict'))[0]!)).toEqual(['clock', 'ended', 'succeeded']);
  });

  test('starts nothing that is paused, by hand it starts all the same', async () => {
    expect((await ask('put', 'jobs/nightly/pause', { paused: true })).status).toBe(204);
    expect(await one('nightly')).toMatchObject({ paused: { by: 'Ines Falk', at: expect.anything() }, next: [] });
    at('2027-01-10T03:30:30Z');
    expect(told((await quiet('nightly'))[0]!)).toEqual(['clock', 'skipped', 'paused by Ines Falk']);
    const { body } = await ask<JobStartEntry>('post', 'jobs/nightly/start');
    expect(body).toMatchObject({ cause: 'person', person: 'Ines Falk', state: 'started' });
    expect(told((await quiet('nightly'))[0]!)).toEqual(['person', 'ended', 'succeeded']);
    await ask('put', 'jobs/nightly/pause', { paused: false });
    at('2027-01-11T03:30:30Z');
    expect(told((await quiet('nightly'))[0]!)).toEqual(['clock', 'ended', 'succeeded']);
  });
});

test('what is upstream is loaded by what the job says: all, what is stale, or none', async () => {
  const tablesOf = async (name: string) => {
    await ask('post', `jobs/${name}/start`);
    const [start] = await quiet(name);
    if (!start!.run) return start!.reason;
    const { body } = await ask<{ steps: { table: string }[] }>('get', `runs/${start!.run.id}`);
    return body.steps.map((s) => s.table);
  };
  await release({
    'jobs/whole.sql': job('whole', 'mart.c', `at = '0 1 1 1 *', needs = all`),
    'jobs/stale.sql': job('stale', 'mart.c', `at = '0 1 1 1 *'`),
    'jobs/needed.sql': job('needed', 'core.a, core.b, mart.c', `at = '0 1 1 1 *', only_stale = true`),
    'jobs/onlyafter.sql': job('onlyafter', 'mart.c', `after = 'needed', needs = none`),
  });
  expect(await tablesOf('whole')).toEqual(['core.a', 'core.b', 'mart.c']);
  expect(await tablesOf('stale')).toEqual(['mart.c']);
  expect(await tablesOf('needed')).toBe('nothing was stale');
  // It ended well: what comes after it starts.
  expect((await quiet('onlyafter')).map(told)).toEqual([['after', 'ended', 'succeeded']]);
  await ask('post', 'workspaces/production/runs', { tables: ['core.a'], upstream: false, downstream: false });
  await new Promise((resolve) => setTimeout(resolve, 2000));
  expect(await tablesOf('needed')).toEqual(['core.b', 'mart.c']);
  expect(await tablesOf('needed')).toBe('nothing was stale');
}, 120_000);

describe('a job that takes long', () => {
  beforeAll(async () => {
    at('2027-02-01T12:00:00Z');
    const minutely = (name: string, millions: number, more: string) => ({
      [`core/${name}.sql`]: table(`core.${name}`, slow(millions)),
      [`jobs/${name}.sql`]: job(name, `core.${name}`, `at = '* * * * *', when_missed = skip, ${more}`),
    });
    await release({
      ...minutely('skips', 20, 'when_running = skip'),
      ...minutely('waits', 20, 'when_running = wait'),
      ...minutely('limited', 100, `when_running = skip, time_limit = '1 second'`),
      ...minutely('again', 20, `when_running = skip, retries = 1, retry_after = '1 second'`),
    });
    for (const name of ['skips', 'waits', 'limited', 'again']) await ask('put', `jobs/${name}/pause`, { paused: true });
  }, 120_000);
  afterEach(async () => {
    for (const name of ['skips', 'waits', 'limited', 'again']) await ask('put', `jobs/${name}/pause`, { paused: true });
  });

  test.each([
    [
      'skips',
      [
        ['clock', 'skipped', 'the one before was still running'],
        ['clock', 'ended', 'succeeded'],
      ],
    ],
    [
      'waits',
      [
        ['clock', 'ended', 'succeeded'],
        ['clock', 'ended', 'succeeded'],
      ],
    ],
  ])('%s what comes while it runs', async (name, expected) => {
    at(`2027-02-0${name === 'skips' ? 2 : 3}T12:00:30Z`);
    await ask('put', `jobs/${name}/pause`, { paused: false });
    const day = name === 'skips' ? '02' : '03';
    at(`2027-02-${day}T12:01:01Z`);
    await look();
    at(`2027-02-${day}T12:02:01Z`);
    await look();
    await ask('put', `jobs/${name}/pause`, { paused: true });
    expect((await quiet(name)).filter((s) => s.scheduledAt >= `2027-02-${day}T12:01`).map(told)).toEqual(expected);
  });

  test('is stopped by its limit, and not tried again', async () => {
    await ask('post', 'jobs/limited/start');
    for (let n = 0; n < 40 && (await starts('limited'))[0]!.state === 'started'; n++) {
      await look();
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
    const [start, ...more] = await quiet('limited');
    expect([start!.run!.state, start!.reason, more.filter((s) => s.cause === 'retry')]).toEqual([
      'stopped',
      'stopped by its time limit',
      [],
    ]);
  });

  test('is tried again where its connection is lost, once as it says, and goes on with what is left', async () => {
    const lose = async () => {
      for (let n = 0; n < 100; n++) {
        const found = await warehouse<{ pid: number }>(
          `select pg_terminate_backend(pid)::text as pid from pg_stat_activity where application_name = 'ouvrage production' and state = 'active' and query like '%20000000%'`,
          'superuser',
        );
        if (found.length) return;
        await new Promise((resolve) => setTimeout(resolve, 50));
      }
      throw new Error('nothing was loading');
    };
    await ask('post', 'jobs/again/start');
    await lose();
    const tried = async () => (await quiet('again')).filter((s) => s.cause !== 'clock');
    const [second, first] = await tried();
    expect([told(second!), second!.attempt, second!.of]).toEqual([
      ['retry', 'ended', 'succeeded'],
      2,
      `run ${first!.run!.id}`,
    ]);
    expect(told(first!)).toEqual(['person', 'ended', 'failed']);
    await ask('post', 'jobs/again/start');
    await lose();
    for (let n = 0; n < 100 && (await starts('again'))[0]!.state !== 'started'; n++) {
      await look();
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
    await lose();
    expect((await tried()).slice(0, 2).map(told)).toEqual([
      ['retry', 'ended', 'failed'],
      ['person', 'ended', 'failed'],
    ]);
  }, 60_000);

  test('that was asked for by a process which then ended is not asked for twice', async () => {
    await ask('post', 'jobs/skips/start');
    const [start] = await starts('skips');
    const source = application.app.get(DataSource);
    await source.query(`update job_start set state = 'waiting', run_id = null where id = $1`, [start!.id]);
    await look(other);
    expect((await starts('skips'))[0]).toMatchObject({ state: 'started', run: { id: start!.run!.id } });
    const runs = (await source.query('select count(*)::int as n from run where job_start = $1', [start!.id])) as [
      { n: number },
    ];
    expect(runs[0].n).toBe(1);
  });
});

test('a wrong value is not tried again; a person goes on, and what comes after follows', async () => {
  await release({
    'core/wrong.sql':
      'create table core.wrong (n integer primary key) with (load = rebuild);\nselect n from core.a union all select 1 as n from core.b where n > 1;\n',
    'jobs/wrong.sql': job('wrong', 'core.wrong', `at = '0 1 1 1 *', needs = none, retries = 3`),
    'jobs/righted.sql': job('righted', 'mart.c', `after = 'wrong', needs = none`),
  });
  await warehouse('update core.b set n = 2', 'superuser');
  await ask('post', 'jobs/wrong/start');
  expect((await quiet('wrong')).map(told)).toEqual([['person', 'ended', 'failed']]);
  expect(await quiet('righted')).toEqual([]);
  await warehouse('update core.b set n = 1', 'superuser');
  const [failed] = await starts('wrong');
  expect((await ask('post', `runs/${failed!.run!.id}/continue`)).status).toBe(201);
  await look();
  expect((await quiet('wrong')).map(told)).toEqual([['person', 'ended', 'succeeded']]);
  expect((await quiet('righted')).map(told)).toEqual([['after', 'ended', 'succeeded']]);
}, 60_000);

test('a file that is delivered starts a job once; several that came while it ran are one more run', async () => {
  await release({
    'sources/files.sql': `create server files foreign data wrapper file_fdw;
create foreign table landing.rate (n integer) server files options (pattern 'rate_{as_of:date}.csv');
`,
    'core/rates.sql': table('core.rates', `select n from landing.rate union all ${slow(10)}`),
    'jobs/rates.sql': job('rates', 'core.rates', `on_delivery = 'landing.rate'`),
  });
  await look();
  const drop = path.join(process.env['OUVRAGE_DATA']!, 'drop');
  mkdirSync(drop, { recursive: true });
  const deliver = async (day: number) => {
    writeFileSync(path.join(drop, `rate_2027-03-0${day}.csv`), `n\n${day}\n`);
    await application.app.get(DeliveryWatcher).look(0);
  };
  await deliver(1);
  await look();
  await deliver(2);
  await deliver(3);
  const found = await quiet('rates');
  expect(found.map(told).reverse()).toEqual([
    ['delivery', 'ended', 'succeeded'],
    ['delivery', 'ended', 'succeeded'],
    ['delivery', 'skipped', `done by start ${found.at(-2)!.id}`],
  ]);
}, 60_000);

test('parameters of a job are those of its loads; a table that has errors meanwhile says why it does not start', async () => {
  await release({
    'parameters.sql': "set param.least = '1';",
    'core/counted.sql': table('core.counted', "select current_setting('param.least')::integer as n"),
    'jobs/counted.sql': job('counted', 'core.counted', `at = '0 1 1 1 *', "param.least" = '7'`),
  });
  await ask('post', 'jobs/counted/start');
  expect((await quiet('counted')).map(told)).toEqual([['person', 'ended', 'succeeded']]);
  expect(await warehouse('select n from core.counted')).toEqual([{ n: 7 }]);
});
