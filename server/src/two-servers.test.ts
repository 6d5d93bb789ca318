import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { IncidentList } from '@ouvrage/api/incident';
import type { NoticeList, OutboxEntry } from '@ouvrage/api/message';
import pg from 'pg';
import { Config } from './shared/config.js';
import { emptyData } from './testing-clusters.js';
import { client, kill, start, until, type RunView } from './testing-process.js';
import { warehouse } from './testing.js';

/** Two server processes on the same data: what one of them opens or sends, the other does not again. */
const before = process.env['OUVRAGE_DATA'];
let end: () => Promise<void>;
beforeAll(async () => {
  // A data folder of its own: nobody has changed where messages go.
  const made = await emptyData(5720);
  end = made.end;
  process.env['OUVRAGE_DATA'] = made.data;
}, 120_000);
afterAll(async () => {
  await kill('SIGTERM');
  await end();
  process.env['OUVRAGE_DATA'] = before;
});

async function application<T extends pg.QueryResultRow>(sql: string): Promise<T[]> {
  const connection = new pg.Client(Config.fromEnvironment().application);
  await connection.connect();
  return (await connection.query<T>(sql).finally(() => connection.end())).rows;
}

const TABLE = 'core.two_levels';
const FILES = {
  'core/two_input.sql':
    "create table core.two_input (n integer not null) with (load = merge, business_key = 'n');\nselect 1 as n;\n",
  'core/two_levels.sql': `create table ${TABLE} (n integer check (n > 0)) with (load = rebuild, owner = 'dues office', open_incident = true, severity = high);\nselect n from core.two_input;\n`,
};
/** Loads that each server is asked for at once. */
const LOADS = 4;

test('a failure that both come upon is one incident, one message and one mail', async () => {
  const asks = [await client(await start()), await client(await start())];
  const [first, second] = [asks[0]!, asks[1]!];
  const ended = (id: number) =>
    until(
      () => second<RunView>('GET', `runs/${id}`),
      (r) => !['queued', 'running'].includes(r.state),
    );
  const { slug } = await first<{ slug: string }>('POST', 'workspaces', { name: 'Two servers' });
  for (const [path, text] of Object.entries(FILES))
    await second('PUT', `workspaces/${slug}/drafts`, { path, text, version: 0 });
  await first('POST', `workspaces/${slug}/commits`, { message: 'Two servers' });
  const released = await second<{ id: number }>('POST', `workspaces/${slug}/release`, { message: 'Two servers' });
  expect((await ended(released.id)).state).toBe('succeeded');

  await warehouse('insert into core.two_input values (-1)');
  const body = { tables: [TABLE], upstream: false, downstream: false };
  const runs = await Promise.all(
    asks.flatMap((ask) =>
      Array.from({ length: LOADS }, () => ask<{ id: number }>('POST', 'workspaces/production/runs', body)),
    ),
  );
  for (const { id } of runs) expect((await ended(id)).state).toBe('failed');

  // All of the runs are in its timeline, whichever server loaded.
  const incidents = async () =>
    (await first<IncidentList>('GET', 'incidents')).incidents.filter((i) => i.subjects.some((s) => s.table === TABLE));
  const [incident] = await until(incidents, (found) => found.length > 0);
  const detail = async () => {
    const { events } = await second<{ events: { kind: string; run: number | null }[] }>(
      'GET',
      `incidents/${incident!.id}`,
    );
    return events.filter((e) => e.kind === 'verdict').map((e) => e.run);
  };
  await until(detail, (seen) => runs.every(({ id }) => seen.includes(id)));
  expect((await detail()).length).toBe(runs.length);
  expect(await incidents()).toHaveLength(1);

  const title = new RegExp(`^Incident ${incident!.id} opened`);
  const mails = async () => (await first<OutboxEntry[]>('GET', 'outbox')).filter((e) => title.test(e.subject));
  await until(mails, (found) => found.length > 0);
  const left = async () =>
    (await application<{ n: string }>(`select count(*) as n from sending where state = 'waiting' and due <= now()`))[0]!
      .n;
  await until(left, (n) => n === '0');
  const sent = await mails();
  expect(new Set(sent.map((e) => `${e.channel} ${e.to}`)).size).toBe(sent.length);
  expect(sent.every((e) => e.repeats === 0)).toBe(true);
  const { notices } = await second<NoticeList>('GET', 'messages');
  expect(notices.filter((n) => title.test(n.title)).length).toBeLessThanOrEqual(1);
}, 180_000);
