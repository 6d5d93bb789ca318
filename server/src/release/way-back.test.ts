import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { FilesAnswer } from '@ouvrage/api/project';
import type { Comparison, ReleaseEntry, WayBack } from '@ouvrage/api/release';
import type { Review } from '@ouvrage/api/review';
import { emptyData } from '../testing-clusters.js';
import { draft, startApplication, workspace, type Client, type TestApplication } from '../testing.js';

const folder = process.env['OUVRAGE_DATA'];
let end: () => Promise<void>;
let application: TestApplication;
let [admin, jonas, mira, vera] = [] as unknown as [Client, Client, Client, Client];
beforeAll(async () => {
  const made = await emptyData(5742);
  end = made.end;
  process.env['OUVRAGE_DATA'] = made.data;
  application = await startApplication();
  [admin, jonas, mira, vera] = (await Promise.all(
    ['admin', 'jonas', 'mira', 'vera'].map((name) => application.signIn(name)),
  )) as [Client, Client, Client, Client];
}, 180_000);
afterAll(async () => {
  await application.close();
  await end();
  process.env['OUVRAGE_DATA'] = folder;
});

type Files = Readonly<Record<string, string | null>>;
const codeOf = ({ status, body }: { status: number; body: unknown }) => (body as { code?: string }).code ?? status;

/** Saves and commits files. */
async function commit(as: Client, slug: string, files: Files): Promise<void> {
  for (const [file, text] of Object.entries(files)) expect(await draft(as, slug, file, () => text)).toBe(200);
  expect((await as.send('post', `/api/workspaces/${slug}/commits`, { message: 'Change' })).status).toBe(201);
}
/** Releases a workspace, with consent to all that goes. @returns the release's number */
async function release(slug: string): Promise<number> {
  const { losses } = (await mira.get(`/api/workspaces/${slug}/comparison`)).body as Comparison;
  const asked = await admin.send('post', `/api/workspaces/${slug}/release`, {
    message: slug,
    consents: losses.map((l) => l.of),
    override: 'A test.',
  });
  const { id } = asked.body as { id: number };
  expect(await admin.ended(id)).toMatchObject({ error: null, state: 'succeeded' });
  return ((await mira.get('/api/releases')).body as ReleaseEntry[]).find((r) => r.runId === id)!.id;
}
async function released(name: string, files: Files): Promise<{ slug: string; id: number }> {
  const slug = await workspace(jonas, name);
  await commit(jonas, slug, files);
  return { slug, id: await release(slug) };
}
const goBack = async (id: number, as = jonas) =>
  (await as.send('post', `/api/releases/${id}/way-back`, {})).body as WayBack;
const filesOf = async (slug = 'production') =>
  ((await mira.get(`/api/workspaces/${slug}/files`)).body as FilesAnswer).files;
const comparison = async (slug: string) => (await mira.get(`/api/workspaces/${slug}/comparison`)).body as Comparison;
/** What a query finds in production. */
const found = async (sql: string) =>
  (
    (await mira.send('post', '/api/workspaces/production/preview', { path: 'adhoc/x.sql', text: sql, limit: 50 }))
      .body as { rows: (string | null)[][] }
  ).rows.map((r) => r.join(' '));
const run = async (table: string) => {
  const asked = await mira.send('post', '/api/workspaces/production/runs', {
    tables: [table],
    upstream: false,
    downstream: false,
  });
  expect((await mira.ended((asked.body as { id: number }).id)).state).toBe('succeeded');
};

/** A table that keeps its rows, with one more column or without. */
const lamp = (more = '') => `create table core.lamp (
  n integer primary key,
  lit text${more && ',\n  colour text'}
) with (load = merge, business_key = 'n');
select n, 'lit ' || n as lit${more && `, '${more}' as colour`} from generate_series(1, 2) as s (n);
`;

describe('earlier definitions', () => {
  test('come as a new commit with the earlier tree; today’s rows stay, the way back is in the list, and is undone the same way', async () => {
    await released('Lamps', { 'core/lamp.sql': lamp() });
    const before = await filesOf();
    const { id } = await released('Colours', { 'core/lamp.sql': lamp('red'), 'mart/extra.sql': 'select 1 as n' });
    const between = await filesOf();
    await run('core.lamp');
    const { slug } = await goBack(id);
    expect(slug).toBe(`back-to-before-release-${id}`);
    expect(await filesOf(slug)).toEqual(before);
    expect(await comparison(slug)).toMatchObject({
      withdraws: [id],
      holdsWithdrawn: [],
      losses: [{ of: 'core.lamp.colour' }],
    });
    const back = await release(slug);
    expect(await filesOf()).toEqual(before);
    expect(await found('select n, lit from core.lamp order by n')).toEqual(['1 lit 1', '2 lit 2']);
    const [entry] = (await mira.get('/api/releases')).body as ReleaseEntry[];
    expect(entry).toMatchObject({ id: back, withdraws: [id], workspace: slug });
    // No ref went back: what was released is among the ancestors of what is.
    const { body: commits } = await mira.get('/api/workspaces/production/commits');
    expect((commits as { message: string }[]).map((c) => c.message).slice(0, 3)).toEqual([
      slug,
      `Back to before release ${id}`,
      'colours',
    ]);
    expect(await comparison(slug)).toMatchObject({ withdraws: [], files: [] });

    const again = await goBack(back);
    await release(again.slug);
    expect(await filesOf()).toEqual(between);
    expect(await found('select n, lit from core.lamp order by n')).toEqual(['1 lit 1', '2 lit 2']);
  });

  test('of a renamed table and column move its rows back', async () => {
    await released('Buoys', {
      'core/buoy.sql': `create table core.buoy (n integer primary key, place text) with (load = merge, business_key = 'n');\nselect 1 as n, 'north' as place;\n`,
    });
    const { id } = await released('Other names', {
      'core/buoy.sql': null,
      'core/mark.sql': `create table core.mark (n integer primary key, spot text options (was 'place')) with (load = merge, business_key = 'n', was = 'core.buoy');\nselect 2 as n, 'south' as spot;\n`,
    });
    expect(await found('select n, spot from core.mark order by n')).toEqual(['1 north', '2 south']);
    const { slug } = await goBack(id);
    const { losses, tables, cost } = await comparison(slug);
    expect(losses).toEqual([]);
    expect(tables).toMatchObject([
      { kind: 'renamed', was: 'core.mark', table: 'core.buoy', columnsRenamed: [{ was: 'spot', now: 'place' }] },
    ]);
    // What it takes is what the table took and is under the name that it has now.
    expect(cost).toEqual({ seconds: expect.any(Number), untimed: 0, bytes: 32_768, free: null });
    await release(slug);
    // The row that only the withdrawn definition gave is today's: it stays.
    expect(await found('select n, place from core.buoy order by n')).toEqual(['1 north', '2 south']);
  });

  test.each<[string, () => Client, () => Promise<number>, string | number]>([
    ['a viewer', () => vera, async () => 1, 'not-allowed'],
    ['of none', () => jonas, async () => 999_999, 'not-found'],
  ])('are not for %s', async (_, who, id, code) => {
    expect(codeOf(await who().send('post', `/api/releases/${await id()}/way-back`, {}))).toBe(code);
  });
});

describe('work that holds what was withdrawn', () => {
  const text = (lines: readonly string[]) => `select 1 as n\n${lines.map((l) => `-- ${l}\n`).join('')}`;
  const LINES = ['a', 'b', 'c', 'd', 'e', 'f', 'g', 'h', 'i'];
  /** The lines with some in other words. */
  const changed = (...at: readonly number[]) => text(LINES.map((l, i) => (at.includes(i) ? `${l} changed` : l)));

  /** The lines are released, then changed at 0; the change is withdrawn; meanwhile another release changed line 8. */
  async function withdrawn(name: string) {
    const path = `mart/${name}.sql`;
    await released(`${name} lines`, { [path]: text(LINES) });
    const beside = await workspace(jonas, `${name} beside`);
    const { slug, id } = await released(`${name} change`, { [path]: changed(0) });
    const fresh = await workspace(jonas, `${name} fresh`);
    await release((await goBack(id, admin)).slug);
    await released(`${name} later`, { [path]: changed(8) });
    return { path, id, slug, beside, fresh };
  }
  const merged = async (slug: string, path: string, as = jonas) => {
    const answer = await as.send('post', `/api/workspaces/${slug}/take-production`, {});
    expect(answer.status).toBe(201);
    return { text: (await filesOf(slug))[path], message: (answer.body as { message: string }).message };
  };

  test('keeps it when production is merged, says so, and is written by who wrote that', async () => {
    const { path, id, slug, beside, fresh } = await withdrawn('first');
    expect((await comparison(slug)).holdsWithdrawn).toEqual([id]);
    await commit(jonas, slug, { [path]: changed(0, 4) });
    const { authors } = (await mira.get(`/api/workspaces/${slug}/review`)).body as Review;
    expect(authors).toContain('Jonas Reet');
    // What its release would make of the file, before it is merged and after.
    const { body } = await mira.get(`/api/workspaces/${slug}/comparison/file?path=${encodeURIComponent(path)}`);
    expect(body).toEqual({ before: changed(8), after: changed(0, 4, 8) });
    const after = await merged(slug, path, admin);
    expect(after).toEqual({
      text: changed(0, 4, 8),
      message: `Merge production\n\nKeeps what was withdrawn: release ${id}.`,
    });
    const review = (await mira.get(`/api/workspaces/${slug}/review`)).body as Review;
    expect(review.authors).toEqual(['Ada Minch', 'Jonas Reet']);
    expect((await comparison(slug)).holdsWithdrawn).toEqual([]);

    // Work from before it knows nothing of it; work from after it holds it.
    expect((await comparison(beside)).holdsWithdrawn).toEqual([]);
    await commit(jonas, beside, { [path]: changed(4) });
    expect(await merged(beside, path)).toEqual({ text: changed(4, 8), message: 'Merge production' });
    expect((await comparison(fresh)).holdsWithdrawn).toEqual([id]);
    expect((await merged(fresh, path)).text).toBe(changed(0, 8));
  });

  test('is released again without a merge before', async () => {
    const { path, slug } = await withdrawn('second');
    await release(slug);
    expect((await filesOf())[path]).toBe(changed(0, 8));
    expect((await comparison(slug)).files).toEqual([]);
  });
});
