import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { DataSource } from 'typeorm';
import { startApplication, type Client, type TestApplication } from './testing.js';

/** What is said in several places is said alike, and what is offered can be done. */
let application: TestApplication;
let mira: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

test('a run is continued where something is left of it, a release never', async () => {
  const database = application.app.get(DataSource);
  const [build] = (await database.query(
    `select id, state from run where kind = 'build' and state = 'succeeded' order by id limit 1`,
  )) as {
    id: number;
    state: string;
  }[];
  const asked = async (id: number) =>
    (await mira.send('post', `/api/runs/${id}/continue`)).body as { status?: number; code?: string };
  expect(await asked(build!.id)).toMatchObject({ status: 409, code: 'nothing-left' });
  // A release that the server did not survive.
  await database.query(`update run set kind = 'release', state = 'interrupted' where id = $1`, [build!.id]);
  expect(await asked(build!.id)).toMatchObject({ status: 409, code: 'cannot-continue', detail: 'Release again.' });
  await database.query(`update run set kind = 'build', state = 'succeeded' where id = $1`, [build!.id]);
});

test('what has drifted and which files failed is said alike wherever it is said', async () => {
  const database = application.app.get(DataSource);
  const drift = { added: [], dropped: ['berth_name'], retyped: [] };
  await database.query(
    `insert into source_state (environment, table_name, drift, compared_at) values ('production', 'landing.berth', $1, now())
     on conflict (environment, table_name) do update set drift = excluded.drift, compared_at = now()`,
    [drift],
  );
  await database.query(
    `insert into delivery (file, table_name, digest, state, bytes, reason) values ('alike.csv', null, '', 'failed', 0, 'line 2 is odd')`,
  );
  const today = (await mira.get('/api/workspaces/production/today')).body as {
    drifted: string[];
    failedFiles: { file: string; reason: string }[];
  };
  const systems = (await mira.get('/api/workspaces/production/sources')).body as {
    tables: { table: string; drift: unknown; comparedAt: string | null }[];
  }[];
  const drifted = systems.flatMap((s) => s.tables).filter((t) => t.drift !== null);
  expect(drifted.map((t) => t.table)).toEqual(today.drifted);
  expect(today.drifted).toContain('landing.berth');
  const { files } = (await mira.get('/api/deliveries?state=failed&search=alike')).body as {
    files: { file: string; reason: string }[];
  };
  expect(today.failedFiles).toContainEqual(expect.objectContaining({ file: 'alike.csv', reason: 'line 2 is odd' }));
  expect(files).toEqual([expect.objectContaining({ file: 'alike.csv', reason: 'line 2 is odd' })]);
  // An intake that goes well settles both.
  const { body } = await mira.send('post', '/api/workspaces/production/intake', { tables: ['landing.berth'] });
  expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
  const after = (await mira.get('/api/workspaces/production/today')).body as { drifted: string[] };
  expect(after.drifted).not.toContain('landing.berth');
  await database.query(`delete from delivery where file = 'alike.csv'`);
});
