import { afterAll, afterEach, beforeAll, expect, jest, test } from '@jest/globals';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';
import { ProjectService } from '../project/project.service.js';
import { SourceStateService } from '../source/source-state.service.js';
import { ReleaseCompletion } from './release-completion.js';

/** What follows the warehouse's commit of a release is done, wherever it was cut off. */
let application: TestApplication;
let mira: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterEach(() => void jest.restoreAllMocks());
afterAll(() => application.close());

const broken = () => Promise.reject(Object.assign(new Error('terminating connection'), { code: '57P01' }));

/** Where a release is cut off once. */
const CUTS: readonly (readonly [name: string, cut: () => unknown])[] = [
  [
    'before anything follows',
    () => jest.spyOn(application.app.get(ReleaseCompletion), 'complete').mockImplementationOnce(broken),
  ],
  [
    'before main moves',
    () => jest.spyOn(application.app.get(ProjectService).git, 'moveMain').mockImplementationOnce(broken),
  ],
  [
    'before the workspace’s branch moves',
    () => jest.spyOn(application.app.get(ProjectService).git, 'moveBranch').mockImplementationOnce(broken),
  ],
  [
    'before its sources’ states are known',
    () => jest.spyOn(application.app.get(SourceStateService), 'broughtIn').mockImplementationOnce(broken),
  ],
];

test.each(CUTS)('a release cut off %s is completed, once', async (name, cut) => {
  const slug = await workspace(mira, `Cut ${name}`.slice(0, 50));
  const table = `cut_${CUTS.findIndex(([n]) => n === name)}`;
  await draft(
    mira,
    slug,
    `core/${table}.sql`,
    () => `create table core.${table} (n integer primary key) with (load = rebuild);\nselect 1 as n;`,
  );
  // Its source table is brought in by the release.
  await draft(mira, slug, 'sources/port_ops.sql', (text) =>
    text.replace(
      /(create foreign table landing\.port \([\s\S]*?\) server port_ops options \()/,
      `$1"limit" '${100 + CUTS.length + table.length}', `,
    ),
  );
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: name });
  cut();
  const asked = await mira.send('post', `/api/workspaces/${slug}/release`, { message: name, consents: [] });
  const id = (asked.body as { id: number }).id;
  const run = await mira.ended(id);
  expect([run.state, run.error]).toEqual([
    'failed',
    expect.stringContaining('The release was interrupted while it was being completed'),
  ]);
  expect(await warehouse(`select n from core.${table}`)).toHaveLength(1);
  const completion = application.app.get(ReleaseCompletion);
  await Promise.all([completion.completeLeft(), completion.completeLeft()]);
  await completion.completeLeft();
  const after = await mira.ended(id);
  expect([after.state, after.error, new Set(after.steps.map((s) => s.state))]).toEqual([
    'succeeded',
    null,
    new Set(['done']),
  ]);
  const releases = (await mira.get('/api/releases')).body as { runId: number; commit: string }[];
  const found = releases.filter((r) => r.runId === id);
  expect(found).toHaveLength(1);
  expect(((await mira.get('/api/workspaces/production/files')).body as { commit: string }).commit).toBe(
    found[0]!.commit,
  );
});

test('a release that the warehouse did not take stays undone', async () => {
  const before = ((await mira.get('/api/workspaces/production/files')).body as { commit: string }).commit;
  const slug = await workspace(mira, 'Not taken');
  await draft(
    mira,
    slug,
    'core/not_taken.sql',
    () => 'create table core.not_taken (n integer primary key) with (load = rebuild);\nselect 1 as n;',
  );
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
  const completion = application.app.get(ReleaseCompletion);
  jest.spyOn(completion, 'intend').mockImplementationOnce(broken);
  const { id } = (await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents: [] })).body as {
    id: number;
  };
  expect((await mira.ended(id)).state).toBe('failed');
  await completion.completeLeft();
  expect((await mira.ended(id)).state).toBe('failed');
  expect(((await mira.get('/api/workspaces/production/files')).body as { commit: string }).commit).toBe(before);
  expect(await warehouse(`select to_regclass('core.not_taken') as there`)).toEqual([{ there: null }]);
});

test('a release that is stopped while its functions are run first ends at once', async () => {
  const slug = await workspace(mira, 'Slow first');
  for (const n of [1, 2, 3])
    await draft(
      mira,
      slug,
      `functions/slow_${n}.sql`,
      () =>
        `create function functions.slow_${n}() returns integer language sql stable return (select count(*)::integer from generate_series(1, 300000000));`,
    );
  await draft(
    mira,
    slug,
    'core/slow_first.sql',
    () =>
      'create table core.slow_first (n integer) with (load = rebuild);\nselect functions.slow_1() + functions.slow_2() + functions.slow_3() as n;',
  );
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
  const { id } = (await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents: [] })).body as {
    id: number;
  };
  for (;;) {
    const { state } = (await mira.get(`/api/runs/${id}`)).body as { state: string };
    if (state === 'running') break;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  const since = Date.now();
  expect((await mira.send('post', `/api/runs/${id}/stop`)).status).toBe(204);
  expect((await mira.ended(id)).state).toBe('stopped');
  // Each would run for five seconds.
  expect(Date.now() - since).toBeLessThan(5000);
  expect(await warehouse(`select to_regclass('core.slow_first') as there`)).toEqual([{ there: null }]);
});
