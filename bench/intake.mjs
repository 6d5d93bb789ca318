import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { pipeline } from 'node:stream/promises';
import { fileURLToPath } from 'node:url';
import { planIntake } from '@ouvrage/core/intake';
import { productionEnvironment } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';

/**
 * Bringing a table of 1,000,000 rows in, as a ratio of throughput to `psql … COPY TO STDOUT | psql …
 * COPY FROM STDIN`: `node bench/intake.mjs` beside a running `npm start`. Alternating runs, medians;
 * both copy the same rows between the same two databases, and commit.
 */
const ROWS = 1_000_000;
const RUNS = 7;
const data = path.resolve(path.dirname(fileURLToPath(import.meta.url)), '../.data');
const { postgresPort: port, passwords } = JSON.parse(readFileSync(path.join(data, 'config.json'), 'utf8'));
const require = (await import('node:module')).createRequire(
  path.resolve(path.dirname(fileURLToPath(import.meta.url)), '../server/package.json'),
);
const pg = require('pg');
const { from: copyFrom, to: copyTo } = require('pg-copy-streams');
const address = (database, user, role) => ({ host: '127.0.0.1', port, database, user, password: passwords[role] });
const SOURCE = address('port_ops', 'harbour', 'harbour');
const TARGET = address('warehouse', 'ouvrage_production', 'production');

await loadParser();
const project = readProject(
  new Map([
    ['layers.sql', 'create schema bench;'],
    [
      'sources/s.sql',
      `create server s foreign data wrapper postgres_fdw;
       create foreign table bench.rows (id bigint not null, code text, amount numeric(12,2), at timestamptz, day date, n integer, note text) server s options (schema_name 'bench', table_name 'rows');`,
    ],
  ]),
);
const plan = planIntake(productionEnvironment([]), project.tables.get('bench.rows'));
const connect = async (where) => {
  const client = new pg.Client(where);
  await client.connect();
  return client;
};
const [source, target] = [await connect(SOURCE), await connect(TARGET)];
await source.query(`create schema if not exists bench; drop table if exists bench.rows;
  create table bench.rows as select i::bigint as id, 'C' || i as code, (i % 100000)::numeric(12,2) / 7 as amount, timestamptz '2026-01-01' + i * interval '1 second' as at,
    date '2026-01-01' + i % 365 as day, i % 1000 as n, repeat('x', i % 60) as note from generate_series(1, ${ROWS}) i;
  alter table bench.rows alter amount type numeric(12,2); analyze bench.rows`);
await target.query('create schema if not exists "bench~next"');
const fresh = async () => {
  await target.query('drop table if exists "bench~next"."rows"');
  await target.query(plan.build);
};

async function ours() {
  await fresh();
  await target.query('begin');
  await pipeline(source.query(copyTo(plan.readSql)), target.query(copyFrom(plan.copySql)));
  await target.query('commit');
}

async function psql() {
  await fresh();
  const env = (a) => ({
    ...process.env,
    PGHOST: a.host,
    PGPORT: String(a.port),
    PGDATABASE: a.database,
    PGUSER: a.user,
    PGPASSWORD: a.password,
  });
  const out = spawn('psql', ['-qXc', 'copy bench.rows to stdout'], {
    env: env(SOURCE),
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const into = spawn('psql', ['-qXc', 'copy "bench~next"."rows" from stdin'], {
    env: env(TARGET),
    stdio: [out.stdout, 'inherit', 'inherit'],
  });
  await new Promise((resolve, reject) =>
    into.once('exit', (code) => (code === 0 ? resolve() : reject(new Error(`psql ended with ${code}`)))),
  );
}

const timed = async (work) => {
  const started = performance.now();
  await work();
  return performance.now() - started;
};
const median = (times) => [...times].sort((a, b) => a - b)[Math.floor(times.length / 2)];
const times = { ours: [], psql: [] };
await ours();
await psql();
for (let i = 0; i < RUNS; i++) {
  times.psql.push(await timed(psql));
  times.ours.push(await timed(ours));
}
const { rows } = await target.query('select count(*) as n from "bench~next"."rows"');
if (Number(rows[0].n) !== ROWS) throw new Error(`${rows[0].n} rows arrived`);
console.log(
  `psql | psql  ${median(times.psql).toFixed(0)} ms\nours         ${median(times.ours).toFixed(0)} ms\nthroughput   ${(median(times.psql) / median(times.ours)).toFixed(2)} of psql's`,
);
await target.query('drop schema "bench~next" cascade');
await source.query('drop schema bench cascade');
await Promise.all([source.end(), target.end()]);
