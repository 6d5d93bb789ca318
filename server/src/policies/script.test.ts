import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { execFile } from 'node:child_process';
import { mkdtemp, rm, writeFile } from 'node:fs/promises';
import os from 'node:os';
import path from 'node:path';
import { promisify } from 'node:util';
import { Config } from '../shared/config.js';
import { clusters } from '../testing-clusters.js';
import {
  runTables,
  startApplication,
  superuser,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';

/** What is taken away runs in plain psql, and gives the rows that Ouvrage gives. */
const run = promisify(execFile);
let application: TestApplication;
let mira: Client;
let folder: string;

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  folder = await mkdtemp(path.join(os.tmpdir(), 'ouvrage-script-'));
});
afterAll(async () => {
  // What the superuser made of production's tables would be in the way of other tests' releases.
  await psql(`do $$ declare v record; begin
    for v in select schemaname, viewname from pg_views where schemaname like 'w\\_taken\\_away%' and viewowner = 'postgres' loop
      execute format('drop view if exists %I.%I cascade', v.schemaname, v.viewname);
    end loop;
  end $$`);
  await rm(folder, { recursive: true });
  await application.close();
});

async function psql(sql: string): Promise<void> {
  const { host, port, database } = Config.fromEnvironment().warehouse.workspace;
  const { user, password } = superuser();
  const file = path.join(folder, 'script.sql');
  await writeFile(file, sql);
  await run(
    'psql',
    ['-X', '-q', '-v', 'ON_ERROR_STOP=1', '-h', host, '-p', String(port), '-U', user, '-d', database, '-f', file],
    {
      env: { ...process.env, PGPASSWORD: password },
      maxBuffer: 1e8,
    },
  );
}

/** Tables by what their rows say; numbers of keys may differ, so they are read through what they stand for. */
const READ: Readonly<Record<string, string>> = {
  // Production has the versions of the days that it was loaded on, scrapped vessels too; what is current is the same.
  dim_vessel:
    'select hull_no, vessel_name, flag_code, gross_tonnage, tonnage_band, built_on from C.dim_vessel where is_current and hull_no in (select hull_no from staging.vessel where scrapped_on is null)',
  dim_port: 'select port_code, port_name, flag_code from C.dim_port',
  dim_owner: 'select * from C.dim_owner',
  fact_call:
    'select c.call_no, v.hull_no, f.port_code as from_port, t.port_code as to_port, c.berth_code, c.arrived_at, c.tonnage from C.fact_call c join C.dim_vessel v using (vessel_key) join C.dim_port f on f.port_key = c.from_port_key join C.dim_port t on t.port_key = c.to_port_key where c.hull_no in (select hull_no from staging.vessel where scrapped_on is null)',
  fact_dues:
    'select d.invoice_no, v.hull_no, d.amount, d.paid from C.fact_dues d join C.dim_vessel v using (vessel_key) where d.hull_no in (select hull_no from staging.vessel where scrapped_on is null)',
  fact_cargo: 'select line_id, call_no, goods_code, tonnes from C.fact_cargo',
  // Other tests deliver days that landing does not keep; the flag is looked at by itself.
  berth_rate:
    'select berth_code, as_of, rate, charged from C.berth_rate where as_of in (select as_of from landing.berth_rate)',
  'the current day': 'select count(*) from (select distinct as_of from C.berth_rate where is_current) d',
};

async function sameAsProduction(core: string): Promise<void> {
  for (const [table, sql] of Object.entries(READ)) {
    const rows = async (schema: string) =>
      (
        await warehouse<{ t: string }>(
          `select r::text as t from (${sql.replaceAll('C.', `${schema}.`)}) as r order by 1`,
          'superuser',
        )
      ).map((r) => r.t);
    expect({ table, rows: await rows(core) }).toEqual({ table, rows: await rows('core') });
  }
}

test.each(['script', 'procedures'] as const)('the whole project as %s, run twice', async (form) => {
  // Production and the script read the same landing rows.
  await runTables(mira, 'production', []);
  const slug = await workspace(mira, `Taken away ${form}`);
  const { text } = await mira.get(`/api/workspaces/${slug}/script?form=${form}`);
  const prefix = `w_${slug.replaceAll('-', '_')}`;
  for (let time = 0; time < 2; time++) {
    await psql(text);
    if (form === 'procedures') await psql(`call ${prefix}_functions.load_all();`);
    await sameAsProduction(`${prefix}_core`);
  }
});

test.each(['script', 'procedures'] as const)(
  'as %s it runs on an empty server, which has no role but its superuser, with what it says that it needs',
  async (form) => {
    const { startCluster, stopCluster } = await clusters();
    const data = await mkdtemp('/var/tmp/ouvrage-empty-');
    const server = await startCluster(data, { wantedPort: 5990 });
    try {
      const text = (await mira.get(`/api/workspaces/production/script?form=${form}`)).text;
      const needs = text.split('\n').flatMap((line) => (line.startsWith('--   create ') ? [line.slice(5)] : []));
      const file = path.join(folder, 'empty.sql');
      await writeFile(
        file,
        `${needs.join('\n')}\n${text}\n${form === 'procedures' ? 'call functions.load_all();' : ''}\nselect count(*) from core.fact_call;\n`,
      );
      const { stdout } = await run(
        'psql',
        [
          '-X',
          '-q',
          '-t',
          '-v',
          'ON_ERROR_STOP=1',
          '-h',
          '127.0.0.1',
          '-p',
          String(server.postgresPort),
          '-U',
          'postgres',
          '-f',
          file,
        ],
        {
          env: { ...process.env, PGPASSWORD: server.passwords.postgres },
          maxBuffer: 1e8,
        },
      );
      expect(stdout.trim().split('\n').at(-1)!.trim()).toBe('0');
      expect(text).not.toContain('ouvrage_');
    } finally {
      await stopCluster(server);
      await rm(data, { recursive: true, force: true });
      await rm(server.clusterFolder, { recursive: true, force: true });
    }
  },
);

test('a guard and a check stop the script with what is wrong', async () => {
  const slug = await workspace(mira, 'Taken away wrong');
  const script = async () => (await mira.get(`/api/workspaces/${slug}/script?tables=core.dim_port&upstream=true`)).text;
  const text = await script();
  await expect(
    psql(text.replace('select port_code, port_name, flag_code', "select 'KED' as port_code, port_name, flag_code")),
  ).rejects.toThrow(/the query returns more than one row for a port_code/);
  await expect(
    psql(text.replace('select port_code, port_name, flag_code', "select port_code, port_name, 'XX' as flag_code")),
  ).rejects.toThrow(/check core.dim_port\/dim_port_flag_code_fkey is broken: \d+ rows at fault/);
});

test('a source table has no script, and who looks may read one', async () => {
  const vera = await application.signIn('vera');
  expect((await vera.get('/api/workspaces/production/script?tables=landing.call')).body).toMatchObject({
    code: 'no-script',
  });
  expect((await vera.get('/api/workspaces/production/script?tables=core.nothing')).status).toBe(404);
  expect((await vera.get('/api/workspaces/production/script?tables=core.dim_port')).text).toContain(
    'create temp table changes',
  );
});
