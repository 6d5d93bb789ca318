import type { FilesAnswer } from '@ouvrage/api/project';
import type { Comparison, ComparedTexts } from '@ouvrage/api/release';
import type { StateAnswer } from '@ouvrage/api/quality';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { draft, startApplication, workspace, type Client, type TestApplication } from '../testing.js';

/** Answers hold what is asked for, and not the whole project with it. */
let application: TestApplication;
let mira: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

test('files are sent from the commit that is known already', async () => {
  const slug = await workspace(mira, 'By need');
  const files = async (since = '') =>
    (await mira.get(`/api/workspaces/${slug}/files${since && `?since=${since}`}`)).body as FilesAnswer;
  const all = await files();
  expect(all.since).toBeNull();
  expect(await files(all.commit)).toMatchObject({ commit: all.commit, since: all.commit, files: {} });
  await draft(mira, slug, 'staging/port.sql', (t) => `${t}-- more\n`);
  await draft(mira, slug, 'mart/vessel_dues.sql', () => null);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'One more, one less' });
  const changed = await files(all.commit);
  expect(Object.keys(changed.files).sort()).toEqual(['mart/vessel_dues.sql', 'staging/port.sql']);
  expect(changed).toMatchObject({
    since: all.commit,
    files: { 'mart/vessel_dues.sql': null, 'staging/port.sql': expect.stringMatching(/-- more\n$/) },
  });
  // A commit that nobody knows: all of them.
  expect((await files('f'.repeat(40))).since).toBeNull();
  expect((await mira.get(`/api/workspaces/${slug}/files?since=HEAD`)).status).toBe(400);
});

test('a comparison names files, and the texts of one are asked for apart', async () => {
  const slug = await workspace(mira, 'Texts apart');
  const before = ((await mira.get(`/api/workspaces/${slug}/files`)).body as FilesAnswer).files['staging/port.sql'];
  await draft(mira, slug, 'staging/port.sql', (t) => t.replace('trim(port_name)', 'upper(trim(port_name))'));
  const comparison = (await mira.get(`/api/workspaces/${slug}/comparison`)).body as Comparison;
  expect(comparison.files).toEqual([{ path: 'staging/port.sql', kind: 'changed', draft: true }]);
  expect(Object.values(comparison.verdicts).reduce((a, b) => a + b)).toBeGreaterThan(0);
  expect(comparison.impact.breaks).toEqual([]);
  expect(comparison.impact.values[0]).toEqual({ table: 'staging.port', column: 'port_name' });
  const texts = async (path: string) =>
    (await mira.get(`/api/workspaces/${slug}/comparison/file?path=${encodeURIComponent(path)}`)).body as ComparedTexts;
  expect(await texts('staging/port.sql')).toEqual({ before, after: expect.stringContaining('upper(trim(port_name))') });
  expect(await texts('staging/none.sql')).toEqual({ before: null, after: null });
});

test('how tables and checks stand is sent for those that are somewhere and were run', async () => {
  const slug = await workspace(mira, 'Stands');
  await draft(
    mira,
    slug,
    'mart/new_one.sql',
    () => 'create table mart.new_one (n integer not null);\nselect 1 as n;\n',
  );
  const state = (await mira.get(`/api/workspaces/${slug}/state`)).body as StateAnswer;
  expect(state.tables.map((t) => t.table)).not.toContain('mart.new_one');
  expect(state.tables.length).toBeGreaterThan(5);
  expect(state.checks.length).toBeGreaterThan(5);
  expect(state.checks.map((c) => c.verdict)).not.toContain('not run');
});
