import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { CheckOutcome, StateAnswer } from '@ouvrage/api/quality';
import type { Comparison } from '@ouvrage/api/release';
import type { RunDetail } from '@ouvrage/api/run';
import { DataSource } from 'typeorm';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Checks run without loading: over what is there, recorded, and judged as their text says. */
let application: TestApplication;
let mira: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

const PRODUCTION = 'production';
const ask = (slug: string, asked: { checks?: string[]; tables?: string[] }, client = mira) =>
  client.send('post', `/api/workspaces/${slug}/checks`, { checks: [], tables: [], ...asked });
/** Runs checks, and waits for the end. */
async function checked(slug: string, asked: { checks?: string[]; tables?: string[] }): Promise<RunDetail> {
  const { body, status } = await ask(slug, asked);
  expect([status, body]).toEqual([201, expect.anything()]);
  return (await mira.ended((body as { id: number }).id)) as unknown as RunDetail;
}
const stateOf = async (slug: string) => (await mira.get(`/api/workspaces/${slug}/state`)).body as StateAnswer;
const foundOf = async (slug: string, id: string) => (await stateOf(slug)).checks.find((c) => c.id === id);
const historyOf = async (slug: string, id: string) =>
  (await mira.get(`/api/workspaces/${slug}/check-history?id=${encodeURIComponent(id)}`)).body as CheckOutcome[];
const comparisonOf = async (slug: string) => (await mira.get(`/api/workspaces/${slug}/comparison`)).body as Comparison;
const commit = (slug: string, message: string) => mira.send('post', `/api/workspaces/${slug}/commits`, { message });
/** The newest run of an environment, ended. */
async function newest(slug: string): Promise<RunDetail> {
  const [run] = (await mira.get(`/api/runs?environment=${slug}&limit=1`)).body as RunDetail[];
  return (await mira.ended(run!.id)) as unknown as RunDetail;
}

const NAME = 'checks/owners_have_long_names';
const checkText = (least: number, options = '') =>
  `create view checks.owners_have_long_names with (about = 'core.dim_owner'${options}) as\nselect owner_key from core.dim_owner where length(owner_name) < ${least};\n`;

describe('in production', () => {
  test('all checks of a table run over it as it is: recorded with who asked, and nothing is loaded', async () => {
    const before = (await stateOf(PRODUCTION)).tables.find((t) => t.table === 'core.dim_vessel')!;
    const run = await checked(PRODUCTION, { tables: ['core.dim_vessel'] });
    expect(run).toMatchObject({ kind: 'check', person: 'Mira Okafor', tables: ['core.dim_vessel'] });
    expect(run.steps.map((s) => [s.kind, s.table])).toContainEqual(['check', 'core.dim_vessel']);
    const key = run.steps.find((s) => s.table === 'core.dim_vessel')!.checks.find((c) => c.id.endsWith('_pkey'))!;
    const [{ n }] = (await warehouse('select count(*) as n from core.dim_vessel')) as [{ n: string }];
    expect(key).toMatchObject({ verdict: 'holds', atFault: '0', total: n });
    const after = (await stateOf(PRODUCTION)).tables.find((t) => t.table === 'core.dim_vessel')!;
    expect([after.loadedAt, after.run]).toEqual([before.loadedAt, before.run]);
    const found = await foundOf(PRODUCTION, key.id);
    expect(found).toMatchObject({ run: run.id, verdict: 'holds', environment: PRODUCTION });
    expect((await historyOf(PRODUCTION, key.id))[0]).toMatchObject({ run: run.id, at: found!.at });
    const loads = (await mira.get(`/api/workspaces/production/loads?table=core.dim_vessel`)).body as { run: number }[];
    expect(loads.map((l) => l.run)).not.toContain(run.id);
  });
  test('all checks run at once, and what is shown of each is what they found', async () => {
    const run = await checked(PRODUCTION, {});
    expect(run.steps.length).toBeGreaterThan(20);
    const today = (await mira.get('/api/workspaces/production/today')).body as { failedRuns: { kind: string }[] };
    expect(today.failedRuns.filter((r) => r.kind === 'check')).toEqual([]);
    // All that a run of checks alone says is what is there now.
    const { checks } = await stateOf(PRODUCTION);
    for (const step of run.steps)
      for (const { id, verdict, atFault } of step.checks)
        expect(checks.find((c) => c.id === id)).toMatchObject({ verdict, atFault, run: run.id });
  });
});

describe('in a workspace', () => {
  test('a new check runs over production’s rows once it is committed, and stands in the review', async () => {
    const slug = await workspace(mira, 'Long names');
    await draft(mira, slug, `${NAME}.sql`, () => checkText(1000));
    expect((await comparisonOf(slug)).checks).toMatchObject([
      { change: 'new', check: { id: NAME, verdict: 'not run' } },
    ]);
    await commit(slug, 'Owners have long names');
    const run = await newest(slug);
    expect(run).toMatchObject({ kind: 'check', state: 'failed' });
    const [{ n }] = (await warehouse('select count(*) as n from core.dim_owner')) as [{ n: string }];
    const { checks, verdicts } = await comparisonOf(slug);
    expect(checks).toMatchObject([{ change: 'new', check: { id: NAME, verdict: 'broken', atFault: n, run: run.id } }]);
    expect(verdicts).toBeDefined();
    expect(await foundOf(PRODUCTION, NAME)).toBeUndefined();
    const [outcome] = await historyOf(slug, NAME);
    expect(outcome).toMatchObject({ environment: slug, verdict: 'broken', atFault: n });
    expect(outcome!.rows!.columns).toEqual(['owner_key']);
    // A verdict is of the text that was run.
    await draft(mira, slug, `${NAME}.sql`, () => checkText(0));
    expect(await foundOf(slug, NAME)).toBeUndefined();
    expect((await checked(slug, { checks: [NAME] })).state).toBe('succeeded');
    expect(await foundOf(slug, NAME)).toMatchObject({ verdict: 'holds', environment: slug });
    // Another layout is the same text.
    await draft(mira, slug, `${NAME}.sql`, () => `-- Short names are wrong.\n${checkText(0).replaceAll('\n', '\n\n')}`);
    expect(await foundOf(slug, NAME)).toMatchObject({ verdict: 'holds' });
  });
  test.each([
    [
      'a condition that is added',
      'new',
      (t: string) =>
        t.replace('flag_code  text,', 'flag_code  text constraint flags_are_short check (length(flag_code) < 2),'),
      'broken',
    ],
    [
      'one that is tolerated',
      'new',
      (t: string) =>
        t
          .replace('flag_code  text,', 'flag_code  text constraint flags_are_short check (length(flag_code) < 2),')
          .replace('with (load', "with (tolerate = 'flags_are_short: 100%', load"),
      'advisory',
    ],
  ])('a contract’s check runs without building its table: %s', async (what, change, edit, verdict) => {
    const slug = await workspace(mira, what);
    expect(await draft(mira, slug, 'core/dim_owner.sql', edit)).toBe(200);
    const id = 'core.dim_owner/flags_are_short';
    await checked(slug, { checks: [id] });
    expect(await foundOf(slug, id)).toMatchObject({ verdict, environment: slug });
    const { checks } = await comparisonOf(slug);
    expect(checks).toMatchObject([{ change, check: { id, verdict } }]);
    expect((await stateOf(slug)).tables.find((t) => t.table === 'core.dim_owner')?.where).toBe('nowhere');
  });
  test('a check of a table with another query waits until it is built', async () => {
    const slug = await workspace(mira, 'Not there yet');
    await draft(mira, slug, 'core/dim_owner.sql', (t) =>
      t
        .replace('flag_code  text,', 'flag_code  text,\n  mark text check (mark <> flag_code),')
        .replace('flag_code\nfrom', 'flag_code, flag_code as mark\nfrom'),
    );
    expect(await ask(slug, { tables: ['core.dim_owner'] })).toMatchObject({
      status: 409,
      body: { title: 'core.dim_owner is not built here yet' },
    });
  });
});

describe('what cannot be run is refused with the reason', () => {
  test.each<[string, { checks?: string[]; tables?: string[] }, number, string]>([
    [
      'an unknown check',
      { checks: ['core.dim_vessel/dim_vessel_pkeys'] },
      404,
      'There is no check core.dim_vessel/dim_vessel_pkeys',
    ],
    ['an unknown table', { tables: ['core.dim_vesel'] }, 404, 'There is no table core.dim_vesel'],
    [
      'a part of a load',
      { checks: ['core.dim_vessel/versions_do_not_overlap'] },
      422,
      'core.dim_vessel/versions_do_not_overlap is part of the load and cannot be run alone',
    ],
    ['a table without checks', { tables: ['landing.call'] }, 409, 'landing.call has no checks that can be run alone'],
  ])('%s', async (_, asked, status, title) => {
    const answer = await ask(PRODUCTION, asked);
    expect([answer.status, (answer.body as { title: string }).title]).toEqual([status, title]);
  });
  test('more than ten that wait already', async () => {
    const database = application.app.get(DataSource);
    await database.query(
      `insert into run (kind, environment, commit, state, person, request) select 'check', 'production', commit, 'queued', 'nobody', request from run, generate_series(1, 10) where id = (select max(id) from run)`,
    );
    const answer = await ask(PRODUCTION, { tables: ['core.dim_vessel'] });
    await database.query(`delete from run where person = 'nobody'`);
    expect(answer).toMatchObject({ status: 409, body: { code: 'many-waiting' } });
    expect((await ask(PRODUCTION, { tables: ['core.dim_vessel'] })).status).toBe(201);
  });
  test('a viewer asks for none', async () => {
    const vera = await application.signIn('vera');
    expect((await ask(PRODUCTION, { tables: ['core.dim_vessel'] }, vera)).status).toBe(403);
  });
  test('a table that is nowhere', async () => {
    const slug = await workspace(mira, 'Nowhere yet');
    await draft(
      mira,
      slug,
      'core/nowhere.sql',
      () => 'create table core.nowhere (n integer not null);\nselect 1 as n;\n',
    );
    expect(await ask(slug, { tables: ['core.nowhere'] })).toMatchObject({
      status: 409,
      body: { title: 'core.nowhere is not built here yet' },
    });
    // What can be run is run.
    expect((await checked(slug, {})).steps.map((s) => s.table)).not.toContain('core.nowhere');
  });
});
