import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { IncidentDetail, IncidentEvent, IncidentList } from '@ouvrage/api/incident';
import { DataSource } from 'typeorm';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Incidents of production: opened by people and rules, recording by themselves, closed with what was learned. */
let application: TestApplication;
let mira: Client;
let jonas: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  jonas = await application.signIn('jonas');
});
afterAll(() => application.close());

type Body = Record<string, unknown>;
const post = (path: string, body: Body = {}, client = mira) => client.send('post', `/api/incidents${path}`, body);
const detail = async (id: number) => (await mira.get(`/api/incidents/${id}`)).body as IncidentDetail;
const list = async () => (await mira.get('/api/incidents')).body as IncidentList;
const told = ({ events }: IncidentDetail) =>
  events.map((e: IncidentEvent) => [e.kind, e.verdict ?? e.text ?? e.person].filter((x) => x !== null).join(' '));

/** Waits for the end of a run, and for what follows it. */
async function ended(id: number) {
  const run = await mira.ended(id);
  for (;;) {
    const [found] = await application.app
      .get(DataSource)
      .query<{ followed: boolean }[]>('select followed from run where id = $1', [id]);
    if (found!.followed) return run;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
}
/** Releases files; what they make is production's. */
async function release(name: string, files: Readonly<Record<string, string>>) {
  const slug = await workspace(mira, name);
  for (const [path, text] of Object.entries(files)) await draft(mira, slug, path, () => text);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: name });
  const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: name });
  const run = await ended((body as { id: number }).id);
  expect([run.state, run.error, run.steps.flatMap((s) => s.error ?? [])]).toEqual(['succeeded', null, []]);
}
/** Runs something in production. */
async function run(path: 'runs' | 'checks', tables: readonly string[]) {
  const asked = path === 'runs' ? { tables, upstream: false, downstream: false } : { tables, checks: [] };
  const { body } = await mira.send('post', `/api/workspaces/production/${path}`, asked);
  return ended((body as { id: number }).id);
}
/** Rows of a table that production holds, changed behind the product's back. */
const spoil = (sql: string) => warehouse(sql);

const LEVELS = (options = '') =>
  `create table core.levels (
  quay text not null,
  metres numeric constraint levels_are_positive check (metres > 0)
) with (load = merge, business_key = 'quay', owner = 'tide desk'${options});
select quay, metres from (values ('north', 4.5), ('south', 3.5)) as v (quay, metres);
`;
const READERS = {
  'mart/levels_by_quay.sql':
    "create table mart.levels_by_quay (quay text, metres numeric) with (load = rebuild, owner = 'harbour master');\nselect quay, metres from core.levels;\n",
};
const CHECK = 'core.levels/levels_are_positive';

describe('by a person', () => {
  let id: number;
  beforeAll(() => release('Levels', { 'core/levels.sql': LEVELS(), ...READERS }));
  test('opened from a failing check: since when, whom it affects', async () => {
    await spoil(`update core.levels set metres = -1 where quay = 'north'`);
    const checked = await run('checks', ['core.levels']);
    expect(checked.state).toBe('failed');
    expect((await list()).incidents.filter((i) => i.subjects.some((s) => s.subject === CHECK))).toEqual([]);
    const answer = await post('', { kind: 'check', subject: CHECK, severity: 'high' }, jonas);
    expect(answer.status).toBe(201);
    const opened = answer.body as IncidentDetail;
    ({ id } = opened);
    const [found] = await application.app
      .get(DataSource)
      .query(`select at from check_result where check_id = $1 and verdict = 'broken'`, [CHECK]);
    expect(opened).toMatchObject({
      title: 'core.levels: metres > 0',
      state: 'open',
      severity: 'high',
      openedBy: 'Jonas Reet',
      lead: null,
      since: (found as { at: Date }).at.toISOString(),
      affected: [{ table: 'mart.levels_by_quay', owner: 'harbour master', failing: 0, incident: null }],
      causes: [],
      now: [{ subject: CHECK, verdict: 'broken' }],
    });
    expect((await mira.get('/api/workspaces/production/today')).body).toMatchObject({ incidents: [{ id }] });
  });
  test('one thing has one open incident', async () => {
    const again = await post('', { kind: 'check', subject: CHECK });
    expect([again.status, again.body]).toMatchObject([409, { code: 'already-open', incident: id }]);
  });
  test('taken in hand, changed, remarked; what happens is recorded run by run', async () => {
    await post(`/${id}/take`, {}, jonas);
    await post(`/${id}/changes`, { severity: 'critical', title: 'Levels below zero' });
    await post(`/${id}/remarks`, { text: 'The gauge at the north quay was replaced.' }, jonas);
    await run('checks', ['core.levels']);
    const now = await detail(id);
    expect(now).toMatchObject({
      state: 'in hand',
      severity: 'critical',
      title: 'Levels below zero',
      lead: { name: 'jonas', displayName: 'Jonas Reet' },
    });
    expect(told(now)).toEqual([
      'opened Jonas Reet',
      'taken Jonas Reet',
      'changed title: Levels below zero; severity critical, was high',
      'remark The gauge at the north quay was replaced.',
      'verdict broken',
    ]);
  });
  test('is not closed while something does not hold, unless it is said why', async () => {
    const refused = await post(`/${id}/close`, { learned: 'Gauges are calibrated first.' });
    expect([refused.status, refused.body]).toMatchObject([
      409,
      { code: 'does-not-hold', title: 'core.levels: metres > 0 does not hold yet' },
    ]);
    await run('runs', ['core.levels']);
    const closed = await post(`/${id}/close`, { learned: 'Gauges are calibrated first.' });
    expect(closed.status).toBe(204);
    expect(await detail(id)).toMatchObject({
      state: 'closed',
      learned: 'Gauges are calibrated first.',
      closedThough: null,
      now: [{ verdict: 'holds' }],
    });
    expect((await post(`/${id}/take`)).status).toBe(409);
  });
  test('what fails again within 14 days opens it again; later it is another one', async () => {
    await spoil(`update core.levels set metres = -2 where quay = 'south'`);
    await run('checks', ['core.levels']);
    const again = await detail(id);
    expect(again).toMatchObject({ state: 'in hand', reopened: 1, closedAt: null });
    expect(told(again).slice(-3)).toEqual([
      'closed Gauges are calibrated first.',
      'reopened failed again',
      'verdict broken',
    ]);
    await run('runs', ['core.levels']);
    await post(`/${id}/close`, { learned: 'Twice.' });
    await application.app
      .get(DataSource)
      .query(`update incident set closed_at = closed_at - interval '15 days' where id = $1`, [id]);
    await spoil(`update core.levels set metres = -2 where quay = 'south'`);
    await run('checks', ['core.levels']);
    expect((await detail(id)).state).toBe('closed');
  });
});

describe('by a rule', () => {
  test('a broken check opens one, with the severity of its table; failing again adds to it', async () => {
    await release('Levels tell', { 'core/levels.sql': LEVELS(', open_incident = true, severity = low') });
    await spoil(`update core.levels set metres = -1`);
    const [first, second] = [await run('checks', ['core.levels']), await run('checks', ['core.levels'])];
    const [made] = (await list()).incidents;
    expect(made).toMatchObject({ openedBy: null, severity: 'low', subjects: [{ kind: 'check', subject: CHECK }] });
    const now = await detail(made!.id);
    expect(now.events.map((e) => [e.kind, e.run, e.atFault])).toEqual([
      ['opened', null, null],
      ['verdict', first.id, '2'],
      ['verdict', second.id, '2'],
    ]);
    expect(now.before.map((b) => b.state)).toEqual(['closed']);
  });
  test('a failed load opens one of the load, and what it blocks opens none; loading again is recorded', async () => {
    await run('runs', ['core.levels']);
    await release('Shares', {
      'mart/share.sql': `create table mart.share (n integer) with (load = rebuild, open_incident = true);\nselect min(case when metres > 0 then '1' else quay end)::integer as n from core.levels;\n`,
      'mart/share_of.sql':
        'create table mart.share_of (n integer) with (load = rebuild, open_incident = true);\nselect n from mart.share;\n',
    });
    await spoil(`update core.levels set metres = -1`);
    await run('checks', ['core.levels']);
    await run('runs', ['mart.share', 'mart.share_of']);
    const loads = async () => (await list()).incidents.filter((i) => i.subjects.some((s) => s.kind === 'load'));
    const [made, ...others] = await loads();
    expect(others).toEqual([]);
    expect(made).toMatchObject({ title: 'mart.share is not loaded', state: 'open', openedBy: null });
    expect((await detail(made!.id)).causes).toMatchObject([{ table: 'core.levels', failing: 1 }]);
    expect((await post(`/${made!.id}/close`, { learned: 'x' })).status).toBe(409);
    await run('runs', ['core.levels']);
    await run('runs', ['mart.share', 'mart.share_of']);
    expect((await detail(made!.id)).events.slice(-2).map((e) => [e.kind, e.verdict, e.text])).toEqual([
      // Viewers read incidents: a value of the data is in none.
      ['load', 'broken', 'invalid input syntax for type integer'],
      ['load', 'holds', null],
    ]);
    expect((await post(`/${made!.id}/close`, { learned: 'Levels are never all below zero.' })).status).toBe(204);
    await spoil(`update core.levels set metres = -1`);
    await run('checks', ['core.levels']);
  });
  test('workspaces open none', async () => {
    const slug = await workspace(mira, 'Fails here');
    await draft(mira, slug, 'core/levels.sql', () => LEVELS(', open_incident = true').replace('4.5', '1 / 0'));
    const before = (await list()).incidents.length;
    const asked = { tables: ['core.levels'], upstream: false, downstream: false };
    const { body } = await mira.send('post', `/api/workspaces/${slug}/runs`, asked);
    expect((await ended((body as { id: number }).id)).state).toBe('failed');
    expect((await list()).incidents.length).toBe(before);
  });
  test('a release that renames the check is followed, and one that removes it closes the incident', async () => {
    const { id } = (await list()).incidents.find((i) => i.state !== 'closed' && i.openedBy === null)!;
    await release('Another name', {
      'core/levels.sql': LEVELS(', open_incident = true, severity = low').replace(
        'levels_are_positive',
        'levels_over_zero',
      ),
    });
    const renamed = await detail(id);
    expect(renamed.subjects).toEqual([
      { kind: 'check', subject: 'core.levels/levels_over_zero', table: 'core.levels' },
    ]);
    expect(told(renamed)).toContainEqual(expect.stringMatching(/^release release \d+: Another name$/));
    await release('Less is enough', {
      'core/levels.sql': LEVELS(', open_incident = true, severity = low')
        .replace('levels_are_positive', 'levels_over_zero')
        .replace('metres > 0', 'metres > -1'),
    });
    expect(told(await detail(id))).toContainEqual(expect.stringMatching(/^release release \d+: Less is enough$/));
    await release('No check', {
      'core/levels.sql': LEVELS().replace(/ constraint levels_are_positive check \(metres > 0\)/, ''),
    });
    expect(await detail(id)).toMatchObject({
      state: 'closed',
      learned: expect.stringMatching(/^release \d+ removed core\.levels\/levels_over_zero$/),
    });
  });
});

describe('several of one cause', () => {
  test('an incident upstream is named as the likely cause; they are merged and split', async () => {
    await release('Checked again', { 'core/levels.sql': LEVELS() });
    await spoil(`update core.levels set metres = -1`);
    await run('checks', ['core.levels']);
    const up = (await post('', { kind: 'check', subject: CHECK })).body as IncidentDetail;
    const down = (await post('', { kind: 'load', subject: 'mart.levels_by_quay' })).body as IncidentDetail;
    expect((await detail(down.id)).causes).toMatchObject([{ table: 'core.levels', failing: 1, incident: up.id }]);
    expect((await detail(down.id)).related).toEqual([
      { id: up.id, title: 'core.levels: metres > 0', why: 'core.levels is upstream: it may be the cause' },
    ]);
    expect((await detail(up.id)).related[0]!.why).toBe('mart.levels_by_quay reads it: this may be the cause');
    expect((await post(`/${down.id}/merge`, { into: up.id })).status).toBe(204);
    expect(await detail(down.id)).toMatchObject({
      state: 'closed',
      learned: `Merged into incident ${up.id}.`,
      subjects: [],
    });
    expect((await detail(up.id)).subjects.map((s) => s.kind).sort()).toEqual(['check', 'load']);
    const apart = (await post(`/${up.id}/split`, { kind: 'load', subject: 'mart.levels_by_quay' }))
      .body as IncidentDetail;
    expect(apart).toMatchObject({ state: 'open', subjects: [{ kind: 'load', table: 'mart.levels_by_quay' }] });
    expect((await detail(up.id)).subjects).toHaveLength(1);
    expect((await post(`/${up.id}/split`, { kind: 'check', subject: CHECK })).status).toBe(422);
  });
});

describe('what is asked in vain', () => {
  test.each<[string, string, Body, number, string]>([
    ['a check that does not exist', '', { kind: 'check', subject: 'core.dim_vessel/x' }, 404, 'not-found'],
    ['a table as a source', '', { kind: 'source', subject: 'core.dim_vessel' }, 404, 'not-found'],
    ['a kind that is none', '', { kind: 'person', subject: 'vera' }, 400, 'bad-input'],
    ['an incident that does not exist', '/999999/remarks', { text: 'x' }, 404, 'not-found'],
    ['a number that is none', '/x/remarks', { text: 'x' }, 400, 'bad-input'],
    ['a remark without words', '/1/remarks', { text: '' }, 400, 'bad-input'],
    ['a severity that is none', '/1/changes', { severity: 'dire' }, 400, 'bad-input'],
    ['a lead who is nobody', '/1/changes', { lead: 'nobody' }, 422, 'no-such-person'],
    ['a viewer as lead', '/1/changes', { lead: 'vera' }, 422, 'no-such-person'],
    ['merging with itself', '/1/merge', { into: 1 }, 422, 'same-incident'],
  ])('%s', async (_, path, body, status, code) => {
    const answer = await post(path, body);
    expect([answer.status, (answer.body as { code: string }).code]).toEqual([status, code]);
  });
  test('reopening an open one', async () => {
    const { id } = (await list()).incidents.find((i) => i.state !== 'closed')!;
    expect(await post(`/${id}/reopen`, { text: 'x' })).toMatchObject({ status: 409, body: { code: 'not-closed' } });
  });
  test('a viewer reads and changes nothing', async () => {
    const vera = await application.signIn('vera');
    const [{ id }] = (await list()).incidents as unknown as [{ id: number }];
    expect((await vera.get(`/api/incidents/${id}`)).status).toBe(200);
    for (const path of ['', `/${id}/take`, `/${id}/remarks`, `/${id}/close`])
      expect((await post(path, { kind: 'check', subject: CHECK, text: 'x', learned: 'x' }, vera)).status).toBe(403);
  });
});
