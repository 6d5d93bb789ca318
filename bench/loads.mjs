import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { compileText, loadParser, policyContext, policySteps, readProject } from '@ouvrage/core';

/**
 * Loads of 1,000,000 rows as ratios of time and of WAL to the best statements written by hand, both
 * with the test of the query's keys: `node bench/loads.mjs [policy]` beside a running `npm start`.
 * Alternating runs on fresh copies of the same table; medians.
 */
const ROWS = Number(process.env.ROWS ?? 1_000_000);
const RUNS = Number(process.env.RUNS ?? 5);
const only = process.argv[2];
const here = path.dirname(fileURLToPath(import.meta.url));
const { postgresPort: port, passwords } = JSON.parse(readFileSync(path.join(here, '../.data/config.json'), 'utf8'));
const pg = createRequire(path.join(here, '../server/package.json'))('pg');
const client = new pg.Client({ host: '127.0.0.1', port, database: 'warehouse', user: 'ouvrage_production', password: passwords.production });
await client.connect();
/** Only a superuser may ask for a checkpoint: without one before each run, whole pages go to the log now here, now there. */
const server = new pg.Client({ host: '127.0.0.1', port, database: 'postgres', user: 'postgres', password: passwords.postgres });
await server.connect();
await client.query(
  "set search_path = bench_loads; set timezone = 'UTC'; set work_mem = '64MB'; drop schema if exists bench_loads cascade; create schema bench_loads",
);

await loadParser();
const ATTRIBUTES = ['a text', 'b text', 'c numeric(12,2)', 'd integer', 'e date', 'f timestamptz', 'g text'];
const names = ATTRIBUTES.map((a) => a.split(' ')[0]);
const list = (alias) => names.map((n) => `${alias}.${n}`).join(', ');

const KEYED = `k bigint not null, ${ATTRIBUTES.join(', ')}`;
const VALID =
  "valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')";
const INDEX = { merge: 'add primary key (k)', history: 'add primary key (k, valid_from)' };
const swap = (index) => `alter table n ${index}; create index on n (d); drop table t; alter table n rename to t`;

/** The best statements by hand, by the share of rows that change: in place where few do, written anew where many do. */
const CASES = {
  merge: {
    contract: `${KEYED}) with (load = merge, business_key = 'k')`,
    table: `k, ${names.join(', ')}`,
    byHand: (share) =>
      share < 0.15
        ? `
merge into t using src q on t.k = q.k
when matched and (${list('t')}) is distinct from (${list('q')}) then update set ${names.map((n) => `${n} = q.${n}`).join(', ')}
when not matched then insert (k, ${names.join(', ')}) values (q.k, ${list('q')})`
        : `
create table n as select k, ${names.join(', ')} from src union all select k, ${names.join(', ')} from t where not exists (select from src q where q.k = t.k);
${swap(INDEX.merge)}`,
  },
  history: {
    contract: `${KEYED}, ${VALID}) with (load = history, business_key = 'k')`,
    table: `k, ${names.join(', ')}, timestamptz '2026-01-01' as valid_from, null::timestamptz as valid_to, true as is_current`,
    byHand: (share) => {
      const changes = `
create temp table c on commit drop as
select q.k, ${list('q')}, case when t.k is null then 'new' else 'changed' end as op
from src q left join (select * from t where valid_to is null) t on t.k = q.k
where t.k is null or (${list('t')}) is distinct from (${list('q')});
analyze c;`;
      return share < 0.3
        ? `${changes}
update t set valid_to = now(), is_current = false from c where t.k = c.k and t.valid_to is null and c.op = 'changed';
insert into t select c.k, ${list('c')}, now(), null, true from c`
        : `${changes}
create table n as select t.k, ${list('t')}, t.valid_from, case when c.op = 'changed' then now() else t.valid_to end as valid_to, c.op is distinct from 'changed' as is_current
from t left join c on c.k = t.k union all select c.k, ${list('c')}, now(), null, true from c;
${swap(INDEX.history)}`;
    },
  },
};
/** What a careful author runs first: null and repeated keys of the query. */
const KEYS_BY_HAND = 'select count(*), count(distinct k) from src';

async function timed(work) {
  const wal = async () => Number((await client.query("select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0') as n")).rows[0].n);
  const before = await wal();
  const started = performance.now();
  await work();
  return { ms: performance.now() - started, wal: (await wal()) - before };
}
/** Runs the steps of a load, as the server does. */
async function runSteps(steps) {
  for (const s of steps) {
    const { rows } = await client.query(s.sql);
    if (s.step === 'choose') await runSteps(rows[0].rewrite ? s.rewrite : s.inPlace);
    if (s.step === 'when' && rows[0].needed) await runSteps(s.steps);
    if (s.step === 'guard' && rows.length) throw new Error(s.message);
  }
}
const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];

console.log('policy   changed   ours      by hand   time ratio  WAL ratio');
for (const [policy, { contract, table, byHand }] of Object.entries(CASES)) {
  const index = `alter table t ${INDEX[policy]}; create index on t (d)`;
  if (only && only !== policy) continue;
  const project = readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema core;'],
      ['sources/s.sql', `create server s foreign data wrapper postgres_fdw; create foreign table landing.src (k bigint, ${ATTRIBUTES.join(', ')}) server s;`],
      ['core/t.sql', `create table core.t (${contract};\nselect k, ${names.join(', ')} from landing.src;`],
    ]),
  );
  if (project.diagnostics.length) throw new Error(project.diagnostics[0].message);
  const definition = project.tables.get('core.t');
  const placeOf = (name) => ({ schema: 'bench_loads', name: name.slice(name.indexOf('.') + 1) });
  const own = placeOf('core.t');
  const beside = { schema: 'bench_loads', name: 'beside' };
  const context = policyContext(project, definition, { own, home: own, beside }, { placeOf, functionsSchema: 'bench_loads' });
  const query = compileText(project.files.get(definition.path), definition.query, definition.query, context.names);
  const steps = policySteps(context, query, definition.path);
  for (const share of [0.01, 0.1, 0.5]) {
    await client.query(`drop table if exists base, src;
      create table base as select i::bigint as k, 'name ' || i as a, 'x' || i % 1000 as b, (i % 100000)::numeric(12,2) as c, i % 5000 as d, date '2020-01-01' + i % 2000 as e, timestamptz '2020-01-01' + i * interval '1 minute' as f, repeat('y', i % 30) as g from generate_series(1, ${ROWS}) i;
      create table src as select k, a, case when hashint8(k)::bigint + 2147483648 < ${share} * 4294967296 then b || '!' else b end as b, c, d, e, f, g from base
      union all select k + ${ROWS}, a, b, c, d, e, f, g from base where k <= ${ROWS / 100};
      analyze base; analyze src`);
    const ours = [];
    const theirs = [];
    for (let run = 0; run < RUNS; run++) {
      for (const [into, work] of [
        [
          theirs,
          async () => {
            await client.query(KEYS_BY_HAND);
            await client.query(byHand(share));
          },
        ],
        [
          ours,
          async () => {
            await client.query("select set_config('load.time', now()::text, true)");
            await runSteps(steps);
            const { rows } = await client.query("select to_regclass('bench_loads.beside') is not null as there");
            if (rows[0].there)
              await client.query(`alter table beside ${INDEX[policy]}; create index on beside (d); drop table t; alter table beside rename to t`);
          },
        ],
      ]) {
        await client.query(`drop table if exists t; create table t as select ${table} from base; ${index}`);
        await client.query('vacuum analyze t');
        await server.query('checkpoint');
        into.push(
          await timed(async () => {
            await client.query('begin');
            await work();
            await client.query('commit');
          }),
        );
      }
    }
    const [o, h] = [ours, theirs].map((r) => ({ ms: median(r.map((x) => x.ms)), wal: median(r.map((x) => x.wal)) }));
    console.log(
      `${policy.padEnd(8)} ${String(share * 100).padStart(5)} %  ${o.ms.toFixed(0).padStart(6)} ms  ${h.ms.toFixed(0).padStart(6)} ms  ${(o.ms / h.ms).toFixed(2).padStart(9)}  ${(o.wal / h.wal).toFixed(2).padStart(9)}`,
    );
  }
}
await client.query('drop schema bench_loads cascade');
await client.end();
await server.end();
