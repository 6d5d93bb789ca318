import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { IncidentList } from '@ouvrage/api/incident';
import type { OutboxEntry } from '@ouvrage/api/message';
import { DataSource } from 'typeorm';
import { client, kill, start, until } from '../testing-process.js';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Two server processes on one database: what happens once is opened once, told once and sent once. */
let application: TestApplication;
let mira: Client;
let other: Awaited<ReturnType<typeof client>>;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  other = await client(await start());
});
afterAll(async () => {
  await kill('SIGKILL');
  await application.close();
});

const TABLE = 'core.surges';
const DEFINITION = `create table ${TABLE} (
  quay text not null,
  metres numeric constraint surges_are_positive check (metres > 0)
) with (load = merge, business_key = 'quay', owner = 'dues office', open_incident = true);
select quay, metres from (values ('north', 4.5), ('south', 3.5)) as v (quay, metres);
`;
const query = <T>(sql: string, values: unknown[] = []) => application.app.get(DataSource).query<T[]>(sql, values);
const outbox = async () => (await mira.get('/api/outbox')).body as OutboxEntry[];
const waiting = () => query<{ id: string }>(`select id from sending where state = 'waiting'`);

test('runs asked of both at once open one incident, and each receiver gets one message', async () => {
  const slug = await workspace(mira, 'Surges');
  await draft(mira, slug, 'core/surges.sql', () => DEFINITION);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Surges' });
  const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'Surges' });
  expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
  await warehouse(`update ${TABLE} set metres = -1`);
  const asked = { tables: [TABLE], checks: [] };
  const runs = await Promise.all(
    Array.from({ length: 8 }, async (_, i) =>
      i % 2
        ? (await other<{ id: number }>('POST', 'workspaces/production/checks', asked)).id
        : ((await mira.send('post', '/api/workspaces/production/checks', asked)).body as { id: number }).id,
    ),
  );
  expect(new Set(runs).size).toBe(8);
  for (const id of runs) await mira.ended(id);
  await until(
    () => query(`select from run where id = any($1) and not followed`, [runs]),
    (left) => left.length === 0,
  );
  const { incidents } = (await mira.get('/api/incidents')).body as IncidentList;
  const own = incidents.filter((i) => i.subjects.some((s) => s.subject === `${TABLE}/surges_are_positive`));
  expect(own).toHaveLength(1);
  await until(waiting, (left) => left.length === 0);
  const entries = (await outbox()).filter((e) => e.subject.startsWith(`Incident ${own[0]!.id} opened`));
  expect(entries.map((e) => [e.channel, e.to, e.repeats]).sort()).toEqual([
    ['mail', 'mira@saltmere.example', 0],
    ['mail', 'vera@saltmere.example', 0],
    ['webhook', '/dues-office', 0],
  ]);
});

test('one of them killed while many are sent: none is lost, and what is repeated bears its id', async () => {
  const tables = [
    'core.dim_port',
    'core.dim_berth',
    'core.dim_vessel',
    'core.fact_call',
    'core.fact_dues',
    'core.berth_rate',
  ];
  /** What was to be sent of incidents about loads; other tests have opened some, too. */
  const bundles = async () =>
    (
      await query<{ bundle: string }>(
        `select distinct s.bundle::text as bundle from sending s join message m on m.id = s.message_id
         where s.channel <> 'application' and s.bundle is not null and s.state <> 'given up' and m.title like 'Incident % opened: % is not loaded'`,
      )
    ).map((m) => m.bundle);
  const before = new Set((await outbox()).map((e) => e.id));
  const earlier = new Set(await bundles());
  await Promise.all(
    tables.map((subject) => mira.send('post', '/api/incidents', { kind: 'load', subject, severity: 'high' })),
  );
  await new Promise((resolve) => setTimeout(resolve, 300));
  await kill('SIGKILL');
  // What the killed one had taken is free once its lease has ended.
  await until(
    async () => {
      await query(
        `update sending set due = now() where state = 'waiting' and bundle is not null and due > now() + interval '1 minute'`,
      );
      return waiting();
    },
    (left) => left.length === 0,
  );
  const made = (await bundles()).filter((b) => !earlier.has(b));
  expect(made.length).toBeGreaterThan(0);
  const entries = (await outbox()).filter((e) => !before.has(e.id));
  expect(entries.map((e) => e.id.replaceAll(/^<|@.*$/g, '')).sort()).toEqual(made.sort());
  for (const { id } of ((await mira.get('/api/incidents')).body as IncidentList).incidents.filter(
    (i) => i.state !== 'closed',
  ))
    await mira.send('post', `/api/incidents/${id}/close`, { learned: 'A trial.', though: 'It was a trial.' });
});
