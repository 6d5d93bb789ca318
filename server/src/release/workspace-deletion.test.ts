import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { WorkspaceEntry } from '@ouvrage/api/project';
import { DataSource } from 'typeorm';
import { branchOf } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import {
  draft,
  runTables,
  startApplication,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';
import { WorkspaceDeletion } from './workspace-deletion.js';

let application: TestApplication;
const people = {} as Record<'jonas' | 'mira' | 'vera' | 'admin', Client>;
beforeAll(async () => {
  application = await startApplication();
  for (const name of ['jonas', 'mira', 'vera', 'admin'] as const) people[name] = await application.signIn(name);
});
afterAll(() => application.close());

const remove = async (as: keyof typeof people, slug: string, consents: string[] = []) => {
  const { status, body } = await people[as].send('post', `/api/workspaces/${slug}/deletion`, { consents });
  return {
    said: `${status} ${(body as { code?: string }).code ?? ''}`.trim(),
    body: body as { drafts: string[]; commits: { id: string }[] },
  };
};
const schemas = async (slug: string) => {
  const { prefix } = await application.app.get(ProjectService).workspace(slug);
  return () =>
    warehouse<{ n: string }>(
      `select nspname as n from pg_namespace where starts_with(nspname, '${prefix}_') order by 1`,
    );
};

test('who may delete it, and what is lost only with consent', async () => {
  const slug = await workspace(people.jonas, 'Leaving');
  const beside = await workspace(people.jonas, 'Leaving');
  for (const one of [slug, beside]) {
    await draft(people.jonas, one, 'core/dim_port.sql', (t) => `-- leaving\n${t}`);
    await runTables(people.jonas, one, ['core.dim_port'], false);
  }
  const left = await schemas(slug);
  const others = (await (await schemas(beside))()).map((r) => r.n);
  expect((await left()).length).toBeGreaterThan(others.length);
  expect((await remove('vera', slug)).said).toBe('403 not-allowed');
  expect((await remove('mira', slug)).said).toBe('403 not-allowed');
  expect(await remove('jonas', slug)).toMatchObject({
    said: '409 needs-consent',
    body: { drafts: ['core/dim_port.sql'], commits: [] },
  });
  await people.jonas.send('post', `/api/workspaces/${slug}/commits`, { message: 'Leaving' });
  const { body } = await remove('jonas', slug, ['core/dim_port.sql']);
  expect(body.commits).toMatchObject([{ message: 'Leaving' }]);
  expect((await remove('jonas', slug, [body.commits[0]!.id])).said).toBe('204');

  expect((await left()).map((r) => r.n)).toEqual(others);
  const { git } = application.app.get(ProjectService);
  expect(await git.resolve(branchOf(slug))).toBeUndefined();
  expect((await people.jonas.get(`/api/workspaces/${slug}/files`)).status).toBe(404);
  const listed = (await people.jonas.get('/api/workspaces')).body as WorkspaceEntry[];
  expect(listed.map((w) => w.slug)).toEqual(expect.arrayContaining([beside]));
  expect(listed.map((w) => w.slug)).not.toContain(slug);
  expect(await git.isDeleted(slug)).toBe(true);
  // The other one goes on, and the name is not given again.
  expect((await runTables(people.jonas, beside, ['core.dim_port'], false)).state).toBe('succeeded');
  expect(await workspace(people.jonas, 'Leaving')).toBe('leaving-3');
  expect((await remove('admin', beside, ['core/dim_port.sql'])).said).toBe('204');
});

test('not while something runs in it', async () => {
  const slug = await workspace(people.mira, 'Running');
  await draft(
    people.mira,
    slug,
    'mart/slow.sql',
    () => 'create table mart.slow (n integer);\nselect count(*)::integer as n from generate_series(1, 20000000);\n',
  );
  const { body } = await people.mira.send('post', `/api/workspaces/${slug}/runs`, {
    tables: ['mart.slow'],
    upstream: false,
    downstream: false,
  });
  expect((await remove('mira', slug, ['mart/slow.sql'])).said).toBe('409 running');
  expect((await people.mira.get(`/api/workspaces/${slug}/files`)).status).toBe(200);
  await people.mira.ended((body as { id: number }).id);
  expect((await remove('mira', slug, ['mart/slow.sql'])).said).toBe('204');
});

test('a schema of production whose name begins as the workspace’s do is not its own', async () => {
  const slug = await workspace(people.mira, 'Archive');
  await warehouse('create schema w_archive_kept; create table w_archive_kept.rows_of_production as select 1 as n');
  expect((await remove('mira', slug)).said).toBe('204');
  expect(await warehouse('select n from w_archive_kept.rows_of_production')).toHaveLength(1);
  await warehouse('drop schema w_archive_kept cascade');
});

test('not while its release is under way', async () => {
  const slug = await workspace(people.mira, 'Under way');
  await application.app
    .get(DataSource)
    .query(
      `insert into run (kind, environment, "commit", state, person, request) values ('release', 'production', 'x', 'queued', 'mira', $1)`,
      [{ release: { workspace: slug, message: 'x' } }],
    );
  expect((await remove('mira', slug)).said).toBe('409 running');
  await application.app.get(DataSource).query(`delete from run where "commit" = 'x'`);
  expect((await remove('mira', slug)).said).toBe('204');
});

test('what was cut off is finished at the next start', async () => {
  const slug = await workspace(people.mira, 'Cut short');
  await draft(people.mira, slug, 'mart/short.sql', () => 'create table mart.short (n integer);\nselect 1 as n;\n');
  await runTables(people.mira, slug, ['mart.short'], false);
  const left = await schemas(slug);
  // As a kill leaves it: closed, and nothing more.
  await application.app.get(DataSource).query('update workspace set closed_at = now() where slug = $1', [slug]);
  await application.app.get(WorkspaceDeletion).onApplicationBootstrap();
  expect(await left()).toEqual([]);
  expect(await application.app.get(ProjectService).git.resolve(branchOf(slug))).toBeUndefined();
});
