import { afterEach, expect, test } from '@jest/globals';
import pg from 'pg';
import { Config } from './shared/config.js';
import { client, kill, start, until, type RunView } from './testing-process.js';
import { random } from './testing-sql.js';
import { warehouse } from './testing.js';

afterEach(() => kill('SIGKILL'));

/** How often the server is killed while it loads a table of each policy; `OUVRAGE_KILLS=100` for the whole proof. */
const KILLS = Number(process.env['OUVRAGE_KILLS'] ?? 2);

/** The tables and views in the schemas of a workspace. */
const relationsOf = (prefix: string) =>
  warehouse<{ schema: string; name: string }>(
    `select n.nspname::text as schema, c.relname::text as name from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname like '${prefix}%' and c.relkind in ('r', 'v') and n.nspname not like '%ouvrage' order by 1, 2`,
    'workspace',
  );

test('killed in mid-run, the next start marks the run interrupted, nothing is half-built, and it can be continued', async () => {
  let ask = await client(await start());
  const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name: 'Killed' });
  const { files } = await ask<{ files: Record<string, string> }>('GET', `workspaces/${slug}/files`);
  const slow = files['core/dim_port.sql']!.replace(
    'from staging.port',
    'from staging.port, (select count(*) from generate_series(1, 40000000) as s (n)) as slow',
  );
  await ask('PUT', `workspaces/${slug}/drafts`, { path: 'core/dim_port.sql', text: slow, version: 0 });
  const { id } = await ask<{ id: number }>('POST', `workspaces/${slug}/runs`, {
    tables: ['core.dim_port'],
    upstream: true,
    downstream: false,
  });
  const stepOf = (run: RunView) => run.steps.find((s) => s.table === 'core.dim_port')?.state;
  await until(
    () => ask<RunView>('GET', `runs/${id}`),
    (run) => stepOf(run) === 'running',
  );
  // The statement itself is under way, not only the step.
  await until(
    () =>
      warehouse(
        `select pid from pg_stat_activity where state = 'active' and pid <> pg_backend_pid() and query like '%generate_series(1, 40000000)%'`,
        'superuser',
      ),
    (active) => active.length > 0,
  );
  await kill('SIGKILL');

  ask = await client(await start());
  const interrupted = await ask<RunView>('GET', `runs/${id}`);
  expect([interrupted.state, stepOf(interrupted)]).toEqual(['interrupted', 'interrupted']);

  const again = await ask<{ id: number }>('POST', `runs/${id}/continue`);
  const done = await until(
    () => ask<RunView>('GET', `runs/${again.id}`),
    (run) => !['queued', 'running'].includes(run.state),
  );
  expect(done.state).toBe('succeeded');

  expect(await relationsOf('w_killed')).toEqual([
    { schema: 'w_killed_core', name: 'dim_port' },
    { schema: 'w_killed_core', name: 'dim_port~keys' },
    { schema: 'w_killed_core', name: 'dim_port~last' },
  ]);
});

/** What is left in the queue of a run that waits, where its process or its database went away at the wrong moment. */
const LEFT: readonly (readonly [what: string, sql: string])[] = [
  ['no job', ''],
  ['a job that was tried', `update graphile_worker._private_jobs set attempts = max_attempts where key = 'run:ID'`],
  [
    'a job and a queue that are locked by a process that is gone',
    `with j as (update graphile_worker._private_jobs set attempts = 1, locked_at = now() - interval '1 minute', locked_by = 'gone' where key = 'run:ID' returning job_queue_id)
     update graphile_worker._private_job_queues as q set locked_at = now(), locked_by = 'gone' from j where q.id = j.job_queue_id`,
  ],
];

/** Takes a run that has ended back to where it waited. */
async function waitsAgain(id: number, slug: string, left: string): Promise<void> {
  const application = new pg.Client(Config.fromEnvironment().application);
  await application.connect();
  await application.query('begin');
  await application.query(`update run_step set state = 'waiting' where run_id = $1`, [id]);
  await application.query(`update run set state = 'queued', finished_at = null where id = $1`, [id]);
  if (left) {
    await application.query(
      `select graphile_worker.add_job('ouvrage_run', payload => $1::json, queue_name => $2, max_attempts => 1, job_key => $3)`,
      [{ run: id }, `environment:${slug}`, `run:${id}`],
    );
    await application.query(left.replace('ID', String(id)));
  }
  await application.query('commit');
  await application.end();
}

test('runs that wait, whatever is left of them in the queue, are taken up', async () => {
  const ask = await client(await start());
  const played = LEFT.map(async ([what, left]) => {
    const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name: what.slice(0, 40) });
    const { id } = await ask<{ id: number }>('POST', `workspaces/${slug}/runs`, {
      tables: ['staging.port'],
      upstream: false,
      downstream: false,
    });
    const ended = async () => {
      const found = await until(
        () => ask<RunView>('GET', `runs/${id}`),
        (run) => !['queued', 'running'].includes(run.state),
      );
      return found.state;
    };
    const before = await ended();
    await waitsAgain(id, slug, left);
    return [what, before, await ended()];
  });
  expect(await Promise.all(played)).toEqual(LEFT.map(([what]) => [what, 'succeeded', 'succeeded']));
});

const ID = "id bigint options (role 'surrogate key') primary key, key text not null, x text";
const VALID =
  "valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')";
const POLICIES: Readonly<Record<string, readonly [contract: string, columns: string]>> = {
  killed_append: ["key text, at timestamptz) with (load = append, watermark = 'at')", 'key, at'],
  killed_merge: [`${ID}) with (load = merge, business_key = 'key', missing_rows = delete)`, 'key, x'],
  killed_history: [`${ID}, ${VALID}) with (load = history, business_key = 'key', missing_rows = close)`, 'key, x'],
  killed_events: [`${ID}, ${VALID}) with (load = history, business_key = 'key', effective_from = 'at')`, 'key, x, at'],
  killed_dated: [
    "key text, x text, as_of date options (role 'as of'), is_current boolean options (role 'current flag')) with (load = dated)",
    'key, x, as_of',
  ],
  killed_rebuild: [`${ID}) with (load = rebuild, business_key = 'key')`, 'key, x'],
};
/** Rows that differ from day to day; the day is in a landing table, as the number of an owner below zero. */
const rowsOfDay = (columns: string) => `select ${columns} from (
  select 'k' || i as key, 'x' || (i * d.n) % 7 as x, timestamptz '2026-01-01' + d.n * interval '1 day' + i * interval '1 second' as at, date '2026-01-01' + d.n as as_of
  from (select -min(owner_id) as n from landing.owner) d, generate_series(d.n * 20, 2000 + d.n * 20) as i
) r`;

/** All that the load of a table may have changed, as one text for each table. */
async function statesOf(schema: string): Promise<Record<string, string>> {
  const states: Record<string, string> = {};
  const there = new Set((await relationsOf(schema)).map((r) => r.name));
  for (const table of Object.keys(POLICIES)) {
    const parts = [table, `${table}~keys`, `${table}~events`].filter((name) => there.has(name));
    const marks = parts.map(
      (name) => `(select md5(coalesce(string_agg(r::text, '|' order by r::text), '')) from ${schema}."${name}" as r)`,
    );
    states[table] = marks.length
      ? (await warehouse<{ mark: string }>(`select concat_ws(' ', ${marks.join(', ')}) as mark`, 'workspace'))[0]!.mark
      : '';
  }
  return states;
}

test(
  'killed at any moment of loads of every policy, each table is as before or as after, and continuing makes it right',
  async () => {
    const next = random(7);
    const tables = Object.keys(POLICIES).map((name) => `core.${name}`);
    const day = (n: number) => warehouse(`update landing.owner set owner_id = -${n} where owner_id < 0`);
    let ask = await client(await start());
    await warehouse('insert into landing.owner (owner_id) values (-1)');
    try {
      const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name: 'Killed often' });
      const schema = `w_${slug.replaceAll('-', '_')}_core`;
      for (const [name, [contract, columns]] of Object.entries(POLICIES)) {
        const text = `create table core.${name} (\n${contract};\n\n${rowsOfDay(columns)};\n`;
        await ask('PUT', `workspaces/${slug}/drafts`, { path: `core/${name}.sql`, text, version: 0 });
      }
      const run = () => ask<RunView>('POST', `workspaces/${slug}/runs`, { tables, upstream: false, downstream: false });
      const ended = (id: number) =>
        until(
          () => ask<RunView>('GET', `runs/${id}`),
          (r) => !['queued', 'running'].includes(r.state),
        );
      expect((await ended((await run()).id)).state).toBe('succeeded');
      let took = performance.now();
      await day(2);
      expect((await ended((await run()).id)).state).toBe('succeeded');
      took = performance.now() - took;
      const outcomes = { before: 0, after: 0 };
      for (let killed = 1; killed <= KILLS; killed++) {
        const before = await statesOf(schema);
        await day(2 + killed);
        const { id } = await run();
        await new Promise((resolve) => setTimeout(resolve, (next(1000) / 1000) * took));
        await kill('SIGKILL');
        // What the killed server had asked for goes on until PostgreSQL finds that nobody listens: it holds its locks until then.
        await warehouse(
          `begin; lock table ${Object.keys(POLICIES)
            .map((name) => `${schema}.${name}`)
            .join(', ')} in access exclusive mode; rollback`,
          'workspace',
        );
        await new Promise((resolve) => setTimeout(resolve, 100));
        const found = await statesOf(schema);
        ask = await client(await start());
        // A run that had only been asked for is taken up by the next server; one that had begun waits to be continued.
        if ((await ended(id)).state !== 'succeeded')
          expect((await ended((await ask<RunView>('POST', `runs/${id}/continue`)).id)).state).toBe('succeeded');
        const settled = await statesOf(schema);
        for (const table of Object.keys(POLICIES)) {
          expect(settled[table]).not.toBe(before[table]);
          if (found[table] === before[table]) outcomes.before++;
          else {
            expect({ table, killed, state: found[table] }).toEqual({ table, killed, state: settled[table] });
            outcomes.after++;
          }
        }
      }
      expect(outcomes.before + outcomes.after).toBe(KILLS * Object.keys(POLICIES).length);
      expect((await relationsOf(schema)).filter((r) => r.schema !== schema)).toEqual([]);
    } finally {
      await warehouse('delete from landing.owner where owner_id < 0');
    }
  },
  300_000 + KILLS * 60_000,
);
