import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { ComparedTexts, Comparison } from '@ouvrage/api/release';
import { GitStore } from '../project/git.js';
import { until } from '../testing-process.js';
import { draft, startApplication, workspace, type Client, type TestApplication } from '../testing.js';

/** A review says what its own workspace changes, whatever others have released since it was opened. */
let application: TestApplication;
let mira: Client;
let slug: string;
const FILE = 'mart/moorings.sql';
/** Two lines that two people change, with others between them. */
const moorings = (first: string, last: string) =>
  `create table mart.moorings (quay text primary key);\nselect quay\nfrom (values ${first},\n  ('east'),\n  ('west'),\n  ('far'),\n  ${last}) as v (quay);\n`;

const compared = async () => (await mira.get(`/api/workspaces/${slug}/comparison`)).body as Comparison;
const texts = async (path: string) =>
  (await mira.get(`/api/workspaces/${slug}/comparison/file?path=${encodeURIComponent(path)}`)).body as ComparedTexts;
const release = async (of: string, message: string) => {
  await mira.send('post', `/api/workspaces/${of}/commits`, { message });
  const { body } = await mira.send('post', `/api/workspaces/${of}/release`, { message });
  expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
};

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  const first = await workspace(mira, 'Moorings');
  await draft(mira, first, FILE, () => moorings("('north')", "('south')"));
  await draft(mira, first, 'mart/buoys.sql', () => 'create table mart.buoys (n int primary key);\nselect 1 as n;\n');
  await draft(mira, first, 'examples/mart.buoys/one/result.csv', () => 'n\n1\n');
  await draft(mira, first, 'examples/mart.moorings/quays/result.csv', () => 'quay\neast\n');
  await release(first, 'Moorings');
  slug = await workspace(mira, 'Own');
  await draft(mira, slug, FILE, (text) => text.replace("('south')", "('deep')"));
  const other = await workspace(mira, 'Other');
  await draft(mira, other, FILE, (text) => text.replace("('north')", "('outer')"));
  await draft(mira, other, 'mart/buoys.sql', (text) => text.replace('1 as n', '1 + 0 as n'));
  await release(other, 'Buoys');
});
afterAll(() => application.close());

test.each([
  ['as a draft', async () => undefined],
  ['committed', () => mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Deep' })],
])('what others have released is no change of this one, and is lost by none: %s', async (_, act) => {
  await act();
  const found = await compared();
  expect({
    tables: found.tables.map((t) => `${t.table} ${t.kind}`),
    files: found.files.map((f) => `${f.path} ${f.kind}`),
    losses: found.losses,
    errors: found.errors,
    conflicts: found.conflicts,
  }).toEqual({
    tables: ['mart.moorings changed'],
    files: [`${FILE} changed`],
    losses: [],
    errors: [],
    conflicts: [],
  });
});

test('a file that both have changed is shown as the release would leave it', async () =>
  expect(await texts(FILE)).toEqual({
    before: moorings("('outer')", "('south')"),
    after: moorings("('outer')", "('deep')"),
  }));

test('a file of theirs is the same on both sides', async () => {
  const { before, after } = await texts('mart/buoys.sql');
  expect(before).toContain('mart.buoys');
  expect(after).toBe(before);
});

test('examples are those that this workspace may change, over what the release would make', async () => {
  const states = async () =>
    (await mira.get(`/api/workspaces/${slug}/examples/changed`)).body as { table: string; verdict: string }[];
  const found = await until(states, (all) => all.every((s) => !['running', 'not run'].includes(s.verdict)));
  expect(found.map((s) => `${s.table} ${s.verdict}`)).toEqual(['mart.moorings differs']);
});

test('the same drafts are the same commit, so that looking twice keeps nothing more', async () => {
  await draft(mira, slug, FILE, (text) => text.replace("('far')", "('nigh')"));
  const objects = async () => Number((await application.app.get(GitStore).git(['count-objects'])).split(' ')[0]);
  await compared();
  const once = await objects();
  await compared();
  expect(await objects()).toBe(once);
});

test('where both change the same line the workspace’s own text is shown, and the conflict once it is committed', async () => {
  await draft(mira, slug, FILE, (text) => text.replace("('north')", "('inner')"));
  expect((await texts(FILE)).after).toContain("('inner')");
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Inner' });
  expect((await compared()).conflicts.map((c) => c.path)).toEqual([FILE]);
});
