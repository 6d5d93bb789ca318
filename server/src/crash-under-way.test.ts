import { afterEach, expect, test } from '@jest/globals';
import { mkdir, readdir, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { Config } from './shared/config.js';
import { clusters } from './testing-clusters.js';
import { client, kill, lastWords, start, until, type RunView } from './testing-process.js';
import { random } from './testing-sql.js';
import { warehouse } from './testing.js';

/** The server is killed, and PostgreSQL stopped under it, with previews, deliveries, intakes and releases under way. `OUVRAGE_KILLS=100` for the whole proof. */
const KILLS = Number(process.env['OUVRAGE_KILLS'] ?? 2);
/** PostgreSQL is stopped a fifth as often. */
const STOPS = Math.ceil(KILLS / 5);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 0);
/** Within this time it serves again by itself, or, where this machine is busy with something else, in a few times that of a start with nothing to put right. */
const BACK_MILLISECONDS = 10_000;
const BACK_STARTS = 3;
/** Starts the server. @returns its address, and within how many milliseconds it has to be back later */
async function timedStart(): Promise<{ readonly address: string; readonly back: number }> {
  const since = Date.now();
  const address = await start();
  return { address, back: Math.max(BACK_MILLISECONDS, BACK_STARTS * (Date.now() - since)) };
}
/** What the moments of ending are spread over. */
const SPREAD_MILLISECONDS = 2500;

afterEach(() => kill('SIGKILL'));

type Ask = Awaited<ReturnType<typeof client>>;
const ROWS = 300;
const dropFolder = () => Config.fromEnvironment().dropFolder;
const ended = (ask: Ask, id: number) =>
  until(
    () => ask<RunView>('GET', `runs/${id}`),
    (r) => !['queued', 'running'].includes(r.state),
  );
const countOf = async (sql: string): Promise<number> =>
  Number((await warehouse<{ n: string }>(`select count(*) as n from ${sql}`))[0]!.n);
const stands = async (table: string) =>
  (await warehouse<{ there: boolean }>(`select to_regclass('${table}') is not null as there`))[0]!.there;

/** A workspace with one new table, committed: what is released. */
async function ready(ask: Ask, n: string): Promise<string> {
  const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name: `Under way ${n}` });
  const text = `create table core.under_way_${n} (n integer primary key) with (load = rebuild);\nselect i::integer as n from generate_series(1, ${ROWS}) as s (i);`;
  await ask('PUT', `workspaces/${slug}/drafts`, { path: `core/under_way_${n}.sql`, text, version: 0 });
  await ask('POST', `workspaces/${slug}/commits`, { message: n });
  return slug;
}

/** Calls of production, once all that the harbour has is brought in: its clock may have been moved by another test. */
async function callsOf(ask: Ask): Promise<number> {
  const { id } = await ask<{ id: number }>('POST', 'workspaces/production/intake', {
    tables: ['landing.call', 'landing.cargo_line'],
  });
  expect((await ended(ask, id)).state).toBe('succeeded');
  return countOf('landing.call');
}

const dayOf = (n: number) => new Date(Date.UTC(2040, 0, 1 + n)).toISOString().slice(0, 10);
const fileOf = (n: number) => `berth_rates_${dayOf(n)}.csv`;

/** Everything at once; answers are not waited for, and errors are what is expected. */
async function allAtOnce(ask: Ask, slug: string, n: number): Promise<void> {
  await mkdir(dropFolder(), { recursive: true });
  await writeFile(
    path.join(dropFolder(), fileOf(n)),
    `berth_code,rate,charged\n${Array.from({ length: ROWS }, (_, i) => `B-${i},${i % 900}.5,x`).join('\n')}\n`,
  );
  const ignored = (asked: Promise<unknown>) => void asked.catch(() => undefined);
  ignored(
    ask('POST', `workspaces/${slug}/preview`, {
      path: 'adhoc/x.sql',
      text: 'select count(*) as n from generate_series(1, 30000000) as s (i)',
      limit: 1,
    }),
  );
  ignored(ask('POST', 'workspaces/production/intake', { tables: ['landing.call', 'landing.cargo_line'] }));
  ignored(ask('POST', 'deliveries/look'));
  ignored(ask('POST', `workspaces/${slug}/release`, { message: 'x', consents: [] }));
}

/** After it all: nothing is half, nothing is lost, and what was not done can be done. */
async function settled(ask: Ask, slug: string, n: number, name: string, calls: number): Promise<void> {
  const runs = (await ask<{ id: number; state: string }[]>('GET', 'runs?environment=production')).filter((r) =>
    ['queued', 'running'].includes(r.state),
  );
  for (const { id } of runs) await ended(ask, id);
  const table = `core.under_way_${name}`;
  // What the warehouse holds already is completed at the next start, or within seconds.
  const { released } = await until(
    async () => ({
      n,
      released: (await ask<{ workspace: string }[]>('GET', 'releases')).some((r) => r.workspace === slug),
      stands: await stands(table),
    }),
    (found) => found.released === found.stands,
  );
  if (!released) {
    const { id } = await ask<{ id: number }>('POST', `workspaces/${slug}/release`, { message: 'again', consents: [] });
    expect((await ended(ask, id)).state).toBe('succeeded');
  }
  expect(await countOf(table)).toBe(ROWS);
  const delivered = () => countOf(`landing.berth_rate where as_of = '${dayOf(n)}'`);
  expect([0, ROWS]).toContain(await delivered());
  await until(
    async () => {
      await ask('POST', 'deliveries/look').catch(() => undefined);
      return (await readdir(dropFolder())).includes(fileOf(n));
    },
    (waits) => !waits,
  );
  expect({ n, rows: await delivered() }).toEqual({ n, rows: ROWS });
  expect(await readdir(path.join(dropFolder(), 'archive'))).toContain(fileOf(n));
  expect(await countOf('landing.call')).toBe(calls);
}

async function cleaned(ask: Ask): Promise<void> {
  const runs = (await ask<{ id: number; state: string }[]>('GET', 'runs?environment=production')).filter((r) =>
    ['queued', 'running'].includes(r.state),
  );
  for (const { id } of runs) await ended(ask, id);
  await warehouse(`delete from landing.berth_rate where as_of >= '2040-01-01'`);
  await warehouse(`delete from core.berth_rate where as_of >= '2040-01-01'`);
}

test(
  'the server is killed with everything under way: nothing is half, nothing is lost',
  async () => {
    const next = random(SEED + 11);
    const { address, back } = await timedStart();
    let ask = await client(address);
    const calls = await callsOf(ask);
    for (let n = 1; n <= KILLS; n++) {
      const slug = await ready(ask, `k${n}`);
      await allAtOnce(ask, slug, n);
      await new Promise((resolve) => setTimeout(resolve, next(SPREAD_MILLISECONDS)));
      await kill('SIGKILL');
      const since = Date.now();
      ask = await client(await start());
      expect(Date.now() - since).toBeLessThan(back);
      await settled(ask, slug, n, `k${n}`, calls);
    }
    await cleaned(ask);
  },
  120_000 + KILLS * 60_000,
);

test(
  'PostgreSQL is stopped and started under the server: it goes on serving by itself',
  async () => {
    const { startCluster, stopCluster } = await clusters();
    const { data } = Config.fromEnvironment();
    const next = random(SEED + 13);
    const { address, back } = await timedStart();
    let ask = await client(address);
    const calls = await callsOf(ask);
    for (let n = 1; n <= STOPS; n++) {
      const slug = await ready(ask, `s${n}`);
      await allAtOnce(ask, slug, 400 + n);
      await new Promise((resolve) => setTimeout(resolve, next(SPREAD_MILLISECONDS)));
      await stopCluster(await startCluster(data, { wantedPort: 0 }));
      await startCluster(data, { wantedPort: 0 });
      const since = Date.now();
      ask = await until(
        () =>
          client(address).catch(() =>
            Date.now() - since > BACK_MILLISECONDS
              ? Promise.reject(new Error(`the server does not serve: ${lastWords()}`))
              : undefined,
          ),
        (found) => found !== undefined,
      ).then((found) => found!);
      expect(Date.now() - since).toBeLessThan(back);
      await settled(ask, slug, 400 + n, `s${n}`, calls);
    }
    await cleaned(ask);
  },
  120_000 + STOPS * 60_000,
);
