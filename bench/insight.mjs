import { anatomyOf } from '@ouvrage/core/anatomy';
import { rename } from '@ouvrage/core/assist';
import { projectAround } from '@ouvrage/core/columns';
import { columnId, impactOf, unread, wayBack, wayForward } from '@ouvrage/core/lineage';
import { changeFiles, readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';
import pg from 'pg';
import { generated } from './lib/generated.mjs';

/**
 * Seeing into a project: one edit with what the bench says of it, and each question, in milliseconds; then the steps of
 * queries counted, as a ratio to running each query once.
 * `node bench/insight.mjs [--rows N] [--steps] [connection]`; the second part, alone with `--steps`, needs a PostgreSQL
 * database to write into.
 */
const args = process.argv.slice(2);
const rowsAt = args.indexOf('--rows');
const ROWS = rowsAt >= 0 ? Number(args.splice(rowsAt, 2)[1]) : 1_000_000;
const isOnlySteps = args.includes('--steps');
const [connection] = args.filter((a) => !a.startsWith('--'));
const REPETITIONS = 11;
const NAMES = { placeOf: () => undefined, functionsSchema: 'functions' };

const median = (times) => [...times].sort((a, b) => a - b)[Math.floor(times.length / 2)];
const timed = (work) => {
  const started = performance.now();
  work();
  return performance.now() - started;
};
const say = (name, times) => console.log(`  ${name.padEnd(46)} ${median(times).toFixed(1).padStart(8)} ms`);

const anatomy = (project, table) => {
  const of = project.tables.get(table);
  const around = projectAround((t) => project.columns.get(t), project.functions);
  return anatomyOf({ file: project.files.get(of.path), query: of.query, around }, NAMES, (compiled) => compiled);
};

await loadParser();
for (const count of isOnlySteps ? [] : [1000, 5000, 20_000]) {
  const files = generated(count);
  const reading = timed(() => readProject(files));
  let project = readProject(files);
  console.log(`${count} definitions, read in ${(reading / 1000).toFixed(1)} s`);
  const path = 'staging/t3.sql';
  const text = files.get(path);
  const edited = (n) => text.replace('then a.amount else 0', `then a.amount + ${n} else 0`);
  const [editing, laying, saying] = [[], [], []];
  for (let n = 0; n < REPETITIONS; n++) {
    const before = project;
    editing.push(
      timed(() => {
        project = changeFiles(project, new Map([[path, edited(n)]]));
        if (anatomy(project, 'staging.t3').steps.length === 0) throw new Error('nothing was taken apart');
      }),
    );
    saying.push(timed(() => impactOf(before, project)));
    laying.push(
      timed(() => (project = changeFiles(project, new Map([[path, edited(n).replace('end as', 'end  as')]])))),
    );
  }
  say('an edit: diagnostics, origins, anatomy', editing);
  say('an edit of layout alone', laying);
  say('what an edit breaks and changes', saying);
  const asked = (question) => Array.from({ length: REPETITIONS }, () => timed(question));
  say(
    'the way back of a column',
    asked(() => wayBack(project, columnId('mart.t7', 'amount'))),
  );
  say(
    'all that a column feeds',
    asked(() => wayForward(project, columnId('landing.t3', 'amount'))),
  );
  say(
    'what nobody reads',
    asked(() => unread(project)),
  );
  const dropped = changeFiles(project, new Map([[path, text.replace(/a\.id, trim\(a\.code\) as code/, 'a.id')]]));
  say(
    'what breaks without a column',
    asked(() => impactOf(project, dropped)),
  );
  if (count === 1000)
    say(
      'a rename with all of its uses',
      asked(() => rename(project, { kind: 'column', table: 'staging.t3', column: 'amount', to: 'charged' })),
    );
}

if (connection !== undefined) {
  const client = new pg.Client(connection);
  await client.connect();
  await client.query(
    'create schema insight_bench; set search_path = insight_bench; set max_parallel_workers_per_gather = 0',
  );
  try {
    await measureAnatomy(client);
  } finally {
    await client.query('drop schema insight_bench cascade');
    await client.end();
  }
}

/** Queries of the kinds that marts and facts have, over tables of a port. */
async function measureAnatomy(client) {
  await client.query(`
    create table call as select n as call_no, n % 20000 as hull_no, n % 60 as berth, n % 7000 / 10.0 as tonnage, timestamp '2026-01-01' + n * interval '1 minute' as arrived_at, n % 9 = 0 as is_open from generate_series(1, ${ROWS}) as s (n);
    create table vessel as select n as hull_no, 'vessel ' || n as name, n % 300 as flag, n % 3 = 0 as is_old from generate_series(1, 20000) as s (n);
    create table berth as select n as berth, n % 4 as terminal from generate_series(0, 59) as s (n);
    create table invoice as select n as invoice_no, n * 10 / 9 as call_no, n % 1000 as amount from generate_series(1, ${Math.round(ROWS * 0.9)}) as s (n);
    create table payment as select n as payment_no, n * 3 / 2 as invoice_no, n % 900 as amount from generate_series(1, ${Math.round(ROWS * 0.6)}) as s (n);
    analyze;`);
  const queries = {
    'a filter': 'select call_no, tonnage from call where tonnage > 100 and not is_open',
    'a look-up': 'select c.call_no, v.name from call c left join vessel v on v.hull_no = c.hull_no',
    'two look-ups and a filter':
      'select c.call_no, v.name, b.terminal from call c join vessel v using (hull_no) join berth b on b.berth = c.berth where c.tonnage > 10',
    'a join of two large tables': 'select c.call_no, i.amount from call c join invoice i on i.call_no = c.call_no',
    'a mart':
      "select b.terminal, date_trunc('month', c.arrived_at) as month, count(*) as calls, sum(c.tonnage) as tonnage from call c join berth b on b.berth = c.berth group by 1, 2",
    'a fact with a subquery':
      'select i.invoice_no, c.hull_no, coalesce(p.paid, 0) as paid from invoice i join call c on c.call_no = i.call_no left join (select invoice_no, sum(amount) as paid from payment group by invoice_no) p on p.invoice_no = i.invoice_no',
    'the newest of each':
      'select distinct on (hull_no) hull_no, call_no, arrived_at from call order by hull_no, arrived_at desc',
    'a window':
      'select call_no, row_number() over (partition by hull_no order by arrived_at) as n from call where tonnage > 50',
    'calls without an invoice':
      'select call_no from call c where not exists (select from invoice i where i.call_no = c.call_no)',
    'two arms': 'select call_no as no from call union all select invoice_no from invoice',
  };
  const project = readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema mart;'],
      [
        'sources/s.sql',
        `create server s foreign data wrapper postgres_fdw;
create foreign table landing.call (call_no integer, hull_no integer, berth integer, tonnage numeric, arrived_at timestamp, is_open boolean) server s;
create foreign table landing.vessel (hull_no integer, name text, flag integer, is_old boolean) server s;
create foreign table landing.berth (berth integer, terminal integer) server s;
create foreign table landing.invoice (invoice_no integer, call_no integer, amount integer) server s;
create foreign table landing.payment (payment_no integer, invoice_no integer, amount integer) server s;`,
      ],
      ...Object.values(queries).map((sql, i) => [
        `mart/q${i}.sql`,
        sql.replace(/\b(from|join) (call|vessel|berth|invoice|payment)\b/g, '$1 landing.$2'),
      ]),
    ]),
  );
  if (project.diagnostics.length) throw new Error(project.diagnostics[0].message);
  const names = {
    placeOf: (t) => ({ schema: 'insight_bench', name: t.slice('landing.'.length) }),
    functionsSchema: 'functions',
  };
  console.log(`\nsteps counted against the query run once, ${ROWS.toLocaleString('en')} calls`);
  const ratios = [];
  for (const [i, name] of Object.keys(queries).entries()) {
    const of = project.tables.get(`mart.q${i}`);
    const around = projectAround((t) => project.columns.get(t), project.functions);
    const { questions, steps } = anatomyOf(
      { file: project.files.get(of.path), query: of.query, around },
      names,
      (c) => c,
    );
    const whole = `select count(q) from (${Object.values(queries)[i]}) as q`;
    const [running, counting] = [[], []];
    for (let n = 0; n < 4; n++) {
      const started = performance.now();
      await client.query(whole);
      const between = performance.now();
      for (const q of questions) await client.query(q.sql().text);
      const ended = performance.now();
      // The first round fills the caches.
      if (n > 0) {
        running.push(between - started);
        counting.push(ended - between);
      }
    }
    const ratio = median(counting.map((c, n) => c / running[n]));
    ratios.push(ratio);
    console.log(
      `  ${name.padEnd(28)} ${String(steps.length).padStart(2)} steps ${median(running).toFixed(0).padStart(6)} ms ${median(counting).toFixed(0).padStart(6)} ms  ${ratio.toFixed(2)}`,
    );
  }
  console.log(`  median ${median(ratios).toFixed(2)}, worst ${Math.max(...ratios).toFixed(2)}`);
}
