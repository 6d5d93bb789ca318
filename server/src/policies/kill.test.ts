import { expect, test } from '@jest/globals';
import { connectTo, random, scratch } from '../testing-sql.js';
import { loadsOf } from './harness.js';

/**
 * Loads that are cut off at a random moment, by cancelling the statement or ending the connection:
 * the table and what is remembered beside it are as before or as after, and the next load is right.
 * `OUVRAGE_KILLS=100` cuts off that many loads of each policy.
 */
const SCHEMA = 'kill_test';
const KILLS = Number(process.env['OUVRAGE_KILLS'] ?? 4);
const watcher = scratch(SCHEMA);

const source = {
  'sources/s.sql':
    'create server s foreign data wrapper postgres_fdw; create foreign table landing.src (key text, x text, at timestamptz, as_of date) server s;',
};
const ID = "id bigint options (role 'surrogate key') primary key, key text not null, x text";
const VALID =
  "valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')";
const POLICIES: readonly (readonly [string, string, string])[] = [
  ['append', "key text, at timestamptz) with (load = append, watermark = 'at')", 'select key, at from landing.src'],
  [
    'merge',
    `${ID}) with (load = merge, business_key = 'key', missing_rows = delete)`,
    'select key, x from landing.src',
  ],
  [
    'history by state',
    `${ID}, ${VALID}) with (load = history, business_key = 'key', missing_rows = close)`,
    'select key, x from landing.src',
  ],
  [
    'history by events',
    `${ID}, ${VALID}) with (load = history, business_key = 'key', effective_from = 'at')`,
    'select key, x, at from landing.src',
  ],
  [
    'dated',
    "key text, x text, as_of date options (role 'as of'), is_current boolean options (role 'current flag')) with (load = dated)",
    'select key, x, as_of from landing.src',
  ],
];

/** All that a load may have changed, as one text. */
async function state(): Promise<string> {
  const parts: string[] = [];
  for (const name of ['t', '"t~keys"', '"t~events"']) {
    const { rows } = await watcher.query<{ there: boolean }>('select to_regclass($1) is not null as there', [name]);
    if (String(rows[0]!.there) !== 't') continue;
    const { rows: found } = await watcher.query<{ mark: string }>(
      `select md5(coalesce(string_agg(r::text, '|' order by r::text), '')) as mark from ${name} as r`,
    );
    parts.push(`${name} ${found[0]!.mark}`);
  }
  return parts.join(', ');
}

async function fill(day: number): Promise<void> {
  await watcher.query('drop table if exists src');
  await watcher.query(
    `create table src as select 'k' || i as key, 'x' || (i * ${day}) % 7 as x, timestamptz '2026-01-01' + ${day} * interval '1 day' + i * interval '1 second' as at, date '2026-01-01' + ${day} as as_of
     from generate_series(${day * 20}, 1500 + ${day * 20}) as i`,
  );
}

test.each(POLICIES)(
  '%s',
  async (name, contract, query) => {
    const next = random(name.length);
    const setUp = await loadsOf(watcher, SCHEMA, contract, query, source);
    await setUp.reset();
    await fill(1);
    let took = performance.now();
    await setUp.load('2026-01-01');
    took = performance.now() - took;
    const outcomes = { before: 0, after: 0 };
    for (let kill = 1; kill <= KILLS; kill++) {
      await fill(1 + kill);
      const before = await state();
      const loader = await connectTo(SCHEMA);
      loader.on('error', () => undefined);
      const { rows } = await loader.query<{ pid: string }>('select pg_backend_pid() as pid');
      const loads = await loadsOf(loader, SCHEMA, contract, query, source);
      const at = new Date(Date.UTC(2026, 0, 1) + kill * 3_600_000).toISOString();
      const load = loads.load(at).then(
        () => true,
        () => false,
      );
      // The first connection is cut at once: that load has certainly not ended.
      if (kill > 1) await new Promise((resolve) => setTimeout(resolve, (next(1000) / 1000) * took * 1.3));
      await watcher.query(`select ${kill % 2 ? 'pg_terminate_backend' : 'pg_cancel_backend'}($1::int)`, [rows[0]!.pid]);
      const well = await load;
      await loader.end().catch(() => undefined);
      const found = await state();
      if (well) outcomes.after++;
      else {
        expect(found).toBe(before);
        outcomes.before++;
      }
      // The next load is right: the same as without the one that was cut off.
      await setUp.load(at);
      const settled = await state();
      if (well) expect(settled).toBe(found);
      else expect(settled).not.toBe(before);
    }
    expect(outcomes.before + outcomes.after).toBe(KILLS);
    expect(outcomes.before).toBeGreaterThan(0);
  },
  600_000,
);
