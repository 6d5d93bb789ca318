import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { comparisonShape, countRowKinds } from '@ouvrage/core/review';

/**
 * How long counting the differing rows of two versions of a table takes, as a ratio to the fastest of three statements
 * written by hand: a full outer join with whole rows compared, one with each column, and both versions grouped by all
 * columns. `node bench/review.mjs` beside a running `npm start` (OUVRAGE_DATA names its folder, where that is another);
 * ROWS, COLUMNS and RUNS change the size. Alternating runs; medians of times and of each run's ratio.
 */
const ROWS = Number(process.env.ROWS ?? 1_000_000);
const COLUMNS = Number(process.env.COLUMNS ?? 10);
const RUNS = Number(process.env.RUNS ?? 3);
const SHARES = (process.env.SHARES ?? '0,0.001,0.1,1').split(',').map(Number);
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
await client.query(
  "set timezone = 'UTC'; set work_mem = '64MB'; drop schema if exists bench_review cascade; create schema bench_review; set search_path = bench_review",
);

const TYPES = ['text', 'integer', 'numeric(12,2)', 'date'];
const columns = [
  { name: 'k', type: 'bigint', isNotNull: true },
  ...Array.from({ length: COLUMNS - 1 }, (_, i) => ({ name: `c${i}`, type: TYPES[i % TYPES.length] })),
];
const value = (c, i) =>
  ({
    text: `'value ' || (k * ${i + 3}) % 9973`,
    integer: `((k * ${i + 7}) % 100003)::integer`,
    'numeric(12,2)': `((k * ${i + 11}) % 1000003)::numeric(12,2)`,
    date: `date '2020-01-01' + ((k * ${i + 5}) % 2000)::integer`,
  })[c.type];
const values = columns.slice(1).map((c, i) => `${value(c, i)} as ${c.name}`);
const names = columns.map((c) => c.name);
const side = (name) => ({ from: `bench_review.${name}`, columns, members: new Map() });
const compared = { there: side('t'), here: side('h'), key: ['k'], apart: [], members: [] };
const ours = countRowKinds(compared, comparisonShape(compared), { isUnique: true });
const counting = (
  differs,
) => `select count(t.k), count(h.k), count(*) filter (where h.k is null), count(*) filter (where t.k is null),
  count(*) filter (where t.k = h.k and not (${differs})), count(*) filter (where t.k = h.k and (${differs})) from t full join h on t.k = h.k`;
const row = (of) => `row(${names.slice(1).map((n) => `${of}.${n}`)})`;
const BY_HAND = {
  'whole rows': counting(`${row('t')} is distinct from ${row('h')}`),
  'each column': counting(
    names
      .slice(1)
      .map((n) => `t.${n} is distinct from h.${n}`)
      .join(' or '),
  ),
  grouped: `select sum(t), sum(h), count(*) filter (where t > h), count(*) filter (where h > t) from
  (select sum((side = 0)::integer) as t, sum((side = 1)::integer) as h from (select 0 as side, * from t union all select 1, * from h) u group by ${names}) g`,
};
const timed = async (sql) => {
  const started = performance.now();
  await client.query(sql);
  return performance.now() - started;
};
const median = (of) => [...of].sort((a, b) => a - b)[Math.floor(of.length / 2)];

console.log(`${ROWS} rows of ${COLUMNS} columns`);
console.log('differ     where      ours      fastest by hand            ratio');
for (const share of SHARES)
  for (const where of share > 0 && share < 1 ? ['scattered', 'clustered'] : ['scattered']) {
    const changes =
      where === 'scattered' ? `hashint8(k)::bigint + 2147483648 < ${share} * 4294967296` : `k <= ${share * ROWS}`;
    await client.query(`drop table if exists t, h;
create table t as select k, ${values} from generate_series(1, ${ROWS}::bigint) k;
create table h as select k, ${columns.slice(1).map((c, i) => (i === 0 ? `case when ${changes} then ${c.name} || '!' else ${c.name} end as ${c.name}` : c.name))} from t;
alter table t add primary key (k); alter table h add primary key (k)`);
    await client.query('vacuum analyze t');
    await client.query('vacuum analyze h');
    const times = { ours: [] };
    for (let run = 0; run < RUNS; run++) {
      for (const [name, sql] of Object.entries(BY_HAND)) (times[name] ??= []).push(await timed(sql));
      times.ours.push(await timed(ours));
    }
    const fastest = Object.keys(BY_HAND).reduce((a, b) => (median(times[a]) <= median(times[b]) ? a : b));
    const ratio = median(times.ours.map((ms, i) => ms / times[fastest][i]));
    console.log(
      `${`${share * 100} %`.padEnd(10)} ${where.padEnd(10)} ${median(times.ours).toFixed(0).padStart(6)} ms ${median(times[fastest]).toFixed(0).padStart(6)} ms (${fastest})`.padEnd(
        62,
      ) + ratio.toFixed(2),
    );
  }
await client.query('drop schema bench_review cascade');
await client.end();
