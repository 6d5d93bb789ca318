import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { compileText } from '@ouvrage/core/compile';
import { policyContext, policySteps, runSteps } from '@ouvrage/core/load';
import { readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';
import { measuring } from '@ouvrage/core/watch';

/**
 * Loads of 1,000,000 rows as ratios of time and of WAL to the best statements written by hand, both
 * with the test of the query's keys: `node bench/loads.mjs [policy]` beside a running `npm start` (OUVRAGE_DATA names
 * its folder, where that is another).
 * Alternating runs on fresh copies of the same table; medians, of times as of each run's ratio to the one
 * before it: a machine changes its speed. The last two columns are what is measured of a table after its load, as a
 * share of that load's time, and the time ratio with it.
 */
const ROWS = Number(process.env.ROWS ?? 1_000_000);
const RUNS = Number(process.env.RUNS ?? 5);
const SHARES = (process.env.SHARES ?? '0.01,0.1,0.5').split(',').map(Number);
const only = process.argv[2];
const here = path.dirname(fileURLToPath(import.meta.url));
const data = process.env.OUVRAGE_DATA ?? path.join(here, '../.data');
const { postgresPort: port, passwords } = JSON.parse(readFileSync(path.join(data, 'config.json'), 'utf8'));
const pg = createRequire(path.join(here, '../server/package.json'))('pg');
const client = new pg.Client({
  host: '127.0.0.1',
  port,
  database: 'warehouse',
  user: 'ouvrage_production',
  password: passwords.production,
});
await client.connect();
/** Only a superuser may ask for a checkpoint: without one before each run, whole pages go to the log now here, now there. */
const server = new pg.Client({
  host: '127.0.0.1',
  port,
  database: 'postgres',
  user: 'postgres',
  password: passwords.postgres,
});
await server.connect();
await client.query(
  "set search_path = bench_loads; set timezone = 'UTC'; set work_mem = '64MB'; drop schema if exists bench_loads, bench_beside cascade; create schema bench_loads; create schema bench_beside",
);

await loadParser();
const ATTRIBUTES = ['a text', 'b text', 'c numeric(12,2)', 'd integer', 'e date', 'f timestamptz', 'g text'];
const names = ATTRIBUTES.map((a) => a.split(' ')[0]);
const list = (alias) => names.map((n) => `${alias}.${n}`).join(', ');

const KEYED = `k bigint not null, ${ATTRIBUTES.join(', ')}`;
const ALL = `k, ${names.join(', ')}`;
const VALID =
  "valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')";
const swap = (index) => `alter table n ${index}; create index on n (d); drop table t; alter table n rename to t`;

/** Rows of which a share differs, and one in a hundred is new. */
const changedSource = (share) => `
create table src as select k, a, case when hashint8(k)::bigint + 2147483648 < ${share} * 4294967296 then b || '!' else b end as b, c, d, e, f, g from base
union all select k + ${ROWS}, a, b, c, d, e, f, g from base where k <= ${ROWS / 100}`;

/** What a careful author runs first: null and repeated keys of the query. */
const KEYS_BY_HAND = 'select count(*), count(distinct k) from src;';

/** Events: each key has two, and each key with new ones gets three, late ones between the two and later ones. */
const EVENT = ['a', 'b', 'd'];
const eventSource = (share) => `
create table src as select k, a, 'b' || n || d as b, d, f + n * interval '1 hour' as at from base, generate_series(1, 3) as n where k <= ${ROWS / 2} and k <= ${(share * ROWS) / 2}`;
const EVENTS = `select k, a, b || n as b, d, f + n * interval '2 hours' - interval '2 hours' as at from base, generate_series(0, 1) as n where k <= ${ROWS / 2}`;
/** Versions of keys from their events: repeats dropped, each until the next. */
const cut = (events) => `
select k, a, b, d, at as valid_from, lead(at) over w as valid_to, lead(at) over w is null as is_current
from (select *, (a, b, d) is distinct from (lag(a) over w, lag(b) over w, lag(d) over w) or lag(k) over w is null as starts from ${events} as e window w as (partition by k order by at)) as s
where starts window w as (partition by k order by at)`;

/**
 * Loads of a table, and the best statements by hand, by the share of rows that change: in place where few
 * do, rewritten where many do. `index` is what a new table gets.
 */
const CASES = {
  append: {
    contract: `${KEYED}) with (load = append, watermark = 'f')`,
    table: ALL,
    index: 'add primary key (k)',
    source: (share) => `
create table src as select * from base union all select k + ${ROWS}, a, b, c, d, e, f + ${ROWS} * interval '1 minute', g from base where k <= ${share * ROWS};
create index on src (f)`,
    byHand: () => `
do $$ declare past timestamptz; begin
select max(f) into past from t;
execute format('insert into t (${ALL}) select ${ALL} from src where f > %L', past);
end $$`,
  },
  merge: {
    contract: `${KEYED}, primary key (k)) with (load = merge, business_key = 'k')`,
    table: ALL,
    index: 'add primary key (k)',
    source: changedSource,
    byHand: (share) =>
      KEYS_BY_HAND +
      (share < 0.15
        ? `
merge into t using src q on t.k = q.k
when matched and (${list('t')}) is distinct from (${list('q')}) then update set ${names.map((n) => `${n} = q.${n}`).join(', ')}
when not matched then insert (${ALL}) values (q.k, ${list('q')})`
        : `
create table n as select ${ALL} from src union all select ${ALL} from t where not exists (select from src q where q.k = t.k);
${swap('add primary key (k)')}`),
  },
  history: {
    contract: `${KEYED}, ${VALID}) with (load = history, business_key = 'k')`,
    table: `${ALL}, timestamptz '2026-01-01' as valid_from, null::timestamptz as valid_to, true as is_current`,
    index: 'add primary key (k, valid_from)',
    source: changedSource,
    byHand: (share) => {
      const changes = `${KEYS_BY_HAND}
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
${swap('add primary key (k, valid_from)')}`;
    },
  },
  events: {
    contract: `k bigint not null, a text, b text, d integer, ${VALID}) with (load = history, business_key = 'k', effective_from = 'at')`,
    query: `select k, ${EVENT.join(', ')}, at from landing.src`,
    columns: 'k bigint, a text, b text, d integer, at timestamptz',
    rows: cut(`(${EVENTS})`),
    index: 'add primary key (k, valid_from)',
    before: `drop table if exists "t~events"; create table "t~events" as ${EVENTS}; create index "t~events~by_key" on "t~events" (k, at); vacuum analyze "t~events"`,
    source: eventSource,
    byHand: (share) => {
      const remembered = `
create temp table c on commit drop as select distinct * from src q where not exists (select from "t~events" e where e.k = q.k and e.at = q.at and (e.a, e.b, e.d) is not distinct from (q.a, q.b, q.d));
analyze c;
insert into "t~events" select * from c;`;
      return share < 0.3
        ? `${remembered}
create temp table v on commit drop as ${cut('(select * from "t~events" as e where k in (select k from c))')};
delete from t where k in (select k from c);
insert into t select * from v`
        : `${remembered}
create table n as ${cut('"t~events"')};
${swap('add primary key (k, valid_from)')}`;
    },
  },
  dated: {
    contract: `${KEYED}, as_of date options (role 'as of'), is_current boolean options (role 'current flag')) with (load = dated, business_key = 'k')`,
    query: `select ${ALL}, as_of from landing.src`,
    columns: `k bigint, ${ATTRIBUTES.join(', ')}, as_of date`,
    rows: (share) =>
      `select ${ALL}, date '2026-01-01' + (k % ${Math.round(1 / share)})::integer as as_of, k % ${Math.round(1 / share)} = ${Math.round(1 / share) - 1} as is_current from base`,
    index: 'add primary key (as_of, k)',
    source: (share) =>
      `create table src as select ${ALL}, date '2027-01-01' as as_of from base where k % ${Math.round(1 / share)} = 0`,
    byHand: () => `${KEYS_BY_HAND}
delete from t where as_of in (select distinct as_of from src);
update t set is_current = false where is_current;
insert into t select ${ALL}, as_of, true from src`,
  },
};

async function timed(work) {
  const wal = async () =>
    Number((await client.query("select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0') as n")).rows[0].n);
  const before = await wal();
  const started = performance.now();
  await work();
  return { ms: performance.now() - started, wal: (await wal()) - before };
}
/** Runs the steps of a load, as the server does. */
const ask = async (sql) => (await client.query(sql)).rows;
const play = (steps) =>
  runSteps(steps, {
    run: ({ sql }) => ask(sql),
    ask,
    attempt: async (sql) => void (await ask(sql)),
    stopped: ({ message }) => new Error(message),
  });
/** Alternating runs of the statements by hand and of a load's steps, each in one transaction, and their line of the result. */
async function compare(name, what, { prepare = () => undefined, byHand, steps, finish }) {
  const bySteps = async () => {
    await client.query("select set_config('load.time', now()::text, true)");
    await play(steps);
    await finish();
  };
  const [ours, theirs, measures] = [[], [], []];
  for (let run = 0; run < RUNS; run++)
    for (const [into, work] of [
      [theirs, byHand],
      [ours, bySteps],
    ]) {
      await prepare();
      await server.query('checkpoint');
      into.push(
        await timed(async () => {
          await client.query('begin');
          await work();
          await client.query('commit');
        }),
      );
      if (into === ours) measures.push(await measured(ours.at(-1).ms));
    }
  report(name, what, { ours, theirs, measures });
}
/** What a watch asks of the table that was loaded. */
async function measured(milliseconds) {
  const { rows: columns } = await client.query(
    "select attname as name, format_type(atttypid, atttypmod) as type from pg_attribute where attrelid = 't'::regclass and attnum > 0 and not attisdropped order by attnum",
  );
  const { rows } = await client.query('select count(*)::integer as n from t');
  const load = { rows: rows[0].n, milliseconds };
  return timed(() => client.query(measuring(columns, { schema: 'bench_loads', name: 't' }, load).sql));
}
/** One line of the result. */
function report(name, what, { ours, theirs, measures }) {
  const ms = (runs) =>
    `${median(runs.map((r) => r.ms))
      .toFixed(0)
      .padStart(6)} ms`;
  const ratio = (measure) =>
    median(ours.map((run, i) => run[measure] / theirs[i][measure]))
      .toFixed(2)
      .padStart(9);
  const share = median(measures.map((m, i) => m.ms / ours[i].ms));
  const measuredRatio = median(ours.map((run, i) => (run.ms + measures[i].ms) / theirs[i].ms));
  console.log(
    `${name.padEnd(8)} ${what.padStart(7)}  ${ms(ours)}  ${ms(theirs)}  ${ratio('ms')}  ${ratio('wal')}  ${(100 * share).toFixed(1).padStart(6)} %  ${measuredRatio.toFixed(2).padStart(8)}`,
  );
}
const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];

/** A fact remade, with the keys of two histories as they were at its time. */
async function fact() {
  const version = (name) =>
    `create table core.${name} (${name}_key bigint options (role 'surrogate key'), code bigint not null, ${VALID}) with (load = history, business_key = 'code');\nselect code from landing.${name}_src;`;
  const lookUp = (name) =>
    `${name}_key bigint options (looked_up_by '${name}_code', at 'at', before_first 'unknown') references core.${name} (${name}_key)`;
  const project = readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema core;'],
      [
        'sources/s.sql',
        `create server s foreign data wrapper postgres_fdw;
create foreign table landing.src (id bigint, at timestamptz, vessel_code bigint, berth_code bigint, tonnes numeric(12,2)) server s;
create foreign table landing.vessel_src (code bigint) server s; create foreign table landing.berth_src (code bigint) server s;`,
      ],
      ['core/vessel.sql', version('vessel')],
      ['core/berth.sql', version('berth')],
      [
        'core/t.sql',
        `create table core.t (id bigint primary key, at timestamptz, ${lookUp('vessel')}, ${lookUp('berth')}, tonnes numeric(12,2)) with (load = rebuild);
select id, at, vessel_code, berth_code, tonnes from landing.src;`,
      ],
    ]),
  );
  if (project.diagnostics.length) throw new Error(project.diagnostics[0].message);
  const definition = project.tables.get('core.t');
  const placeOf = (name) => ({ schema: 'bench_loads', name: name.slice(name.indexOf('.') + 1) });
  const staged = { schema: 'bench_loads', name: 'beside' };
  const context = policyContext(project, definition, {
    own: staged,
    home: placeOf('core.t'),
    names: { placeOf, functionsSchema: 'bench_loads' },
  });
  const steps = policySteps(
    context,
    compileText(project.files.get(definition.path), definition.query, definition.query, context.names),
    definition.path,
  );
  const versions = (name, keys, each) => `
create table ${name} as select row_number() over () as ${name}_key, k::bigint as code, timestamptz '2020-01-01' + v * interval '60 days' as valid_from,
  case when v < ${each - 1} then timestamptz '2020-01-01' + (v + 1) * interval '60 days' end as valid_to, v = ${each - 1} as is_current from generate_series(1, ${keys}) as k, generate_series(0, ${each - 1}) as v;
alter table ${name} add primary key (code, valid_from);`;
  await client.query(`drop table if exists src; ${versions('vessel', ROWS / 5, 5)} ${versions('berth', ROWS / 10, 10)}
create table src as select i::bigint as id, timestamptz '2020-01-01' + (i % 600) * interval '1 day' as at, (hashint8(i) & ${2 ** 20 - 1}) % ${ROWS / 5} + 1::bigint as vessel_code, i % ${ROWS / 10} + 1 as berth_code, (i % 1000)::numeric(12,2) as tonnes from generate_series(1, ${5 * ROWS}) as i`);
  for (const table of ['vessel', 'berth', 'src']) await client.query(`vacuum analyze ${table}`);
  const at = (d) =>
    `left join ${d} on ${d}.code = f.${d}_code and f.at >= ${d}.valid_from and (${d}.valid_to is null or f.at < ${d}.valid_to)`;
  const swapped = 'add primary key (id); drop table if exists t; alter table';
  await compare('fact', `${5 * ROWS}`, {
    byHand: () =>
      client.query(`create table n as select f.id, f.at, coalesce(vessel_key, 0) as vessel_key, coalesce(berth_key, 0) as berth_key, f.tonnes from src f ${at('vessel')} ${at('berth')};
alter table n ${swapped} n rename to t`),
    steps,
    finish: () => client.query(`alter table beside ${swapped} beside rename to t`),
  });
}

console.log('policy   changed   ours      by hand   time ratio  WAL ratio  measures  with them');
for (const [policy, { contract, table, index, source, byHand, query, columns, rows, before }] of Object.entries(
  CASES,
)) {
  if (only && only !== policy) continue;
  const project = readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema core;'],
      [
        'sources/s.sql',
        `create server s foreign data wrapper postgres_fdw; create foreign table landing.src (${columns ?? `k bigint, ${ATTRIBUTES.join(', ')}`}) server s;`,
      ],
      ['core/t.sql', `create table core.t (${contract};\n${query ?? `select ${ALL} from landing.src`};`],
    ]),
  );
  if (project.diagnostics.length) throw new Error(project.diagnostics[0].message);
  const definition = project.tables.get('core.t');
  const placeOf = (name) => ({ schema: 'bench_loads', name: name.slice(name.indexOf('.') + 1) });
  const own = placeOf('core.t');
  const staged = { schema: 'bench_beside', name: 't' };
  const context = policyContext(project, definition, {
    own,
    home: own,
    staged,
    names: { placeOf, functionsSchema: 'bench_loads' },
  });
  const compiled = compileText(project.files.get(definition.path), definition.query, definition.query, context.names);
  const steps = policySteps(context, compiled, definition.path);
  for (const share of SHARES) {
    await client.query(`drop table if exists base, src;
      create table base as select i::bigint as k, 'name ' || i as a, 'x' || i % 1000 as b, (i % 100000)::numeric(12,2) as c, i % 5000 as d, date '2020-01-01' + i % 2000 as e, timestamptz '2020-01-01' + i * interval '1 minute' as f, repeat('y', i % 30) as g from generate_series(1, ${ROWS}) i;
      ${source(share)}; analyze base`);
    await client.query('vacuum analyze src');
    const fill = typeof rows === 'function' ? rows(share) : (rows ?? `select ${table} from base`);
    await compare(policy, `${share * 100} %`, {
      prepare: async () => {
        await client.query(
          `drop table if exists t; create table t as ${fill}; alter table t ${index}; create index on t (d)`,
        );
        await client.query('vacuum analyze t');
        for (const statement of before?.split('; ') ?? []) await client.query(statement);
      },
      byHand: () => client.query(byHand(share)),
      steps,
      finish: async () => {
        const { rows: found } = await client.query(
          "select exists (select from pg_index where indrelid = c.oid and indisprimary) as keyed from pg_class as c where oid = to_regclass('bench_beside.t')",
        );
        if (found.length)
          await client.query(
            `${found[0].keyed ? '' : `alter table bench_beside.t ${index};`} create index on bench_beside.t (d); drop table t; alter table bench_beside.t set schema bench_loads`,
          );
      },
    });
  }
}
if (!only || only === 'fact') await fact();
await client.query('drop schema bench_loads, bench_beside cascade');
await client.end();
await server.end();
