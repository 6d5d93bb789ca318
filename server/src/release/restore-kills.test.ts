import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Comparison, ReleaseEntry } from '@ouvrage/api/release';
import { emptyData } from '../testing-clusters.js';
import { client, kill, start, until, type RunView } from '../testing-process.js';
import { random } from '../testing-sql.js';
import { warehouse } from '../testing.js';

/** How often the server is killed while production goes back by its copies; `OUVRAGE_KILLS=100` for the whole proof. */
const KILLS = Number(process.env['OUVRAGE_KILLS'] ?? 2);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 20261201);
/** A restore of these tables takes less. */
const LONGEST_MILLISECONDS = 900;

const folder = process.env['OUVRAGE_DATA'];
let end: () => Promise<void>;
beforeAll(async () => {
  const made = await emptyData(5745);
  end = made.end;
  process.env['OUVRAGE_DATA'] = made.data;
}, 180_000);
afterAll(async () => {
  await kill('SIGKILL');
  await end();
  process.env['OUVRAGE_DATA'] = folder;
});

type Ask = Awaited<ReturnType<typeof client>>;
const ENDED = (run: RunView) => !['queued', 'running'].includes(run.state);
const ended = (ask: Ask, id: number) => until(() => ask<RunView>('GET', `runs/${id}`), ENDED);

/** The tables of which each is kept in its own way, with one more column or without. */
const files = (more: string): Readonly<Record<string, string>> => ({
  'core/killed_merge.sql': `create table core.killed_merge (n bigint options (role 'surrogate key') primary key, k integer not null${more && ', x text'}) with (load = merge, business_key = 'k');\nselect i as k${more && `, '${more}' as x`} from generate_series(1, 500) as s (i);\n`,
  'core/killed_rebuild.sql': `create table core.killed_rebuild (n bigint options (role 'surrogate key') primary key, k integer not null${more && ', x text'}) with (load = rebuild, business_key = 'k');\nselect m.k${more && `, m.x`} from core.killed_merge as m;\n`,
  'mart/killed_reads.sql': 'create table mart.killed_reads as select * from core.killed_rebuild;\n',
});

const TABLES = ['core.killed_merge', 'core.killed_rebuild', 'mart.killed_reads'];

/** Commits files in a workspace of their own and releases it. @returns the run of the release */
async function release(ask: Ask, name: string, of: Readonly<Record<string, string>>): Promise<number> {
  const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name });
  for (const [path, text] of Object.entries(of))
    await ask('PUT', `workspaces/${slug}/drafts`, { path, text, version: 0 });
  await ask('POST', `workspaces/${slug}/commits`, { message: name });
  return released(ask, slug);
}
async function released(ask: Ask, slug: string): Promise<number> {
  const { losses, restores } = await ask<Comparison>('GET', `workspaces/${slug}/comparison`);
  const consents = [...losses.map((l) => l.of), ...(restores?.tables ?? []).map((t) => t.table)];
  return (await ask<{ id: number }>('POST', `workspaces/${slug}/release`, { message: slug, consents })).id;
}

/** Production's tables of this test with what is remembered beside them, but for the greatest numbers. */
async function held(): Promise<Record<string, string>> {
  const tables = await warehouse<{ place: string }>(
    `select format('%I.%I', nspname, relname) as place from pg_class c join pg_namespace n on n.oid = c.relnamespace
     where c.relkind = 'r' and nspname in ('core', 'mart') and relname like 'killed%' and relname not like '%~last' order by 1`,
  );
  const found: Record<string, string> = {};
  for (const { place } of tables) {
    const [row] = await warehouse<{ rows: string }>(
      `select coalesce(string_agg(t::text, ';' order by t::text), '') as rows from ${place} as t`,
    );
    found[place] = row!.rows;
  }
  return found;
}
const newest = async (ask: Ask) => (await ask<ReleaseEntry[]>('GET', 'releases'))[0]!;

test('killed at any moment, production has gone back wholly or not at all, and everything follows', async () => {
  const dice = random(SEED);
  let ask = await client(await start());
  await ended(ask, await release(ask, 'First', files('')));
  const before = await held();
  expect(Object.keys(before)).toHaveLength(5);
  for (let n = 0; n < KILLS; n++) {
    await ended(ask, await release(ask, `Bad ${n}`, files(`bad ${n}`)));
    const [bad, between] = [await newest(ask), await held()];
    const { slug } = await ask<{ slug: string }>('POST', `releases/${bad.id}/way-back`, { restores: true });
    const id = await released(ask, slug);
    await new Promise((resolve) => setTimeout(resolve, dice(LONGEST_MILLISECONDS)));
    await kill('SIGKILL');
    // What the killed server had asked for goes on until PostgreSQL finds that nobody listens: it holds its locks until then.
    await warehouse(`begin; lock table ${TABLES.join(', ')} in access exclusive mode; rollback`, 'superuser');
    ask = await client(await start());
    const { state } = await ended(ask, id);
    const hasGoneBack = (await newest(ask)).runId === id;
    expect([n, state]).toEqual([n, hasGoneBack ? 'succeeded' : expect.stringMatching(/interrupted|failed/)]);
    expect([n, hasGoneBack, await held()]).toEqual([n, hasGoneBack, hasGoneBack ? before : between]);
    if (!hasGoneBack) expect((await ended(ask, await released(ask, slug))).state).toBe('succeeded');
    // The load that follows is asked for, whoever completed the release; it finds everything as it is.
    const [load] = await until(
      () => ask<RunView[]>('GET', 'runs?environment=production&limit=1'),
      ([last]) => last !== undefined && last.id > id && ENDED(last),
    );
    // Killed in the middle of that load, it says so and is gone on with.
    if (load!.state === 'interrupted') {
      const { id: rest } = await ask<{ id: number }>('POST', `runs/${load!.id}/continue`, {});
      expect([n, (await ended(ask, rest)).state]).toEqual([n, 'succeeded']);
    } else expect([n, load!.state]).toEqual([n, 'succeeded']);
    expect([n, await held()]).toEqual([n, before]);
  }
}, 1_800_000);
