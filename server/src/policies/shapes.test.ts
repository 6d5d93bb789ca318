import { expect, jest, test } from '@jest/globals';
import { scratch } from '../testing-sql.js';
import { loadsOf, written } from './harness.js';
import { source } from './worlds.js';

/** Tables that are large enough to choose their shape: whichever they choose, the rows are those of a load in place. */
const SCHEMA = 'shapes_test';
const ROWS = 20_000;
jest.setTimeout(300_000);
const client = scratch(SCHEMA);

const PLAIN = 'key bigint not null, x text, n numeric(8,2)';
const NUMBERED = `id bigint options (role 'surrogate key'), ${PLAIN}, loaded_at timestamptz options (role 'loaded at')`;
const QUERY = 'select key, x, n from landing.src';

/** Rows 1 to `ROWS`, one in `every` with another value, and 500 new ones from 101 keys on, so that the first 100 are missing. */
async function fill(every: number): Promise<void> {
  await client.query(`drop table if exists src;
    create table src as select i::bigint as key, 'x' || i % 10 || case when i % ${every} = 0 then '!' else '' end as x, (i % 100)::numeric(8,2) as n from generate_series(101, ${ROWS} + 500) as i`);
}

interface Case {
  readonly name: string;
  readonly columns: string;
  readonly query?: string;
  readonly options?: string;
  readonly every: number;
  readonly note: RegExp;
  readonly counts: Readonly<Record<string, number>>;
}
const changed = (every: number) => Math.floor(ROWS / every) - Math.floor(100 / every);
const CASES: readonly Case[] = [
  {
    name: 'few changes',
    columns: PLAIN,
    every: 100,
    note: /^changed in place: about \d+ of about 20000 rows/,
    counts: { inserted: 500, updated: changed(100), deleted: 0 },
  },
  {
    name: 'many changes, rows as the query gives them',
    columns: PLAIN,
    every: 2,
    note: /^all rows rewritten: about/,
    counts: { inserted: 500, replaced: ROWS - 100 },
  },
  {
    name: 'many changes, rows as the query gives them, whose key is proven by adding it',
    columns: `${PLAIN}, primary key (key)`,
    every: 2,
    note: /^all rows rewritten: about/,
    counts: { inserted: 500, replaced: ROWS - 100 },
  },
  {
    name: 'many changes, rows numbered and stamped',
    columns: NUMBERED,
    every: 2,
    note: /^all rows rewritten: about/,
    counts: { inserted: 500, updated: changed(2), deleted: 0 },
  },
  {
    name: 'many changes, of which a condition takes few',
    columns: PLAIN,
    options: ", update_when = 'q.key > 19000'",
    every: 2,
    note: /^changed in place: about/,
    counts: { inserted: 500, updated: 500, deleted: 0 },
  },
  {
    name: 'a type of which equal values may differ',
    columns: PLAIN.replace('numeric(8,2)', 'numeric'),
    every: 2,
    note: /^all rows rewritten: about/,
    counts: { inserted: 500, updated: changed(2), deleted: 0 },
  },
  {
    name: 'rows of a query that is kept',
    columns: PLAIN,
    query: 'select key, max(x) as x, max(n) as n from landing.src group by key',
    every: 2,
    note: /^all rows rewritten: \d+ of/,
    counts: { inserted: 500, updated: changed(2), deleted: 0 },
  },
  {
    name: 'missing rows go',
    columns: NUMBERED,
    options: ', missing_rows = delete',
    every: 2,
    note: /^all rows rewritten: \d+ of/,
    counts: { inserted: 500, updated: changed(2), deleted: 100 },
  },
];

test.each(CASES)('$name', async ({ columns, query = QUERY, options = '', every, note, counts }) => {
  const open = (more: string) =>
    loadsOf(
      client,
      SCHEMA,
      `${columns}) with (load = merge, business_key = 'key'${options}${more})`,
      query,
      source('key bigint, x text, n numeric(8,2)'),
    );
  const rows = async () =>
    (await client.query<{ mark: string }>('select md5(string_agg(t::text, chr(10) order by key)) as mark from t'))
      .rows[0]!.mark;
  const outcomes: string[] = [];
  for (const more of ['', ', shape = in_place', ', shape = rewrite']) {
    const loads = await open(more);
    await loads.reset();
    await client.query(
      `drop table if exists src; create table src as select i::bigint as key, 'x' || i % 10 as x, (i % 100)::numeric(8,2) as n from generate_series(1, ${ROWS}) as i`,
    );
    await loads.load('2026-01-01');
    await client.query('analyze t');
    await fill(every);
    const counted = await loads.load('2026-01-02');
    if (more === '') {
      expect(loads.note()).toMatch(note);
      expect(counted).toEqual(counts);
    }
    outcomes.push(await rows());
    // What was loaded once is there: again, nothing changes.
    expect(await loads.load('2026-01-03')).toMatchObject({ inserted: 0 });
    outcomes.push(await rows());
  }
  expect(new Set(outcomes).size).toBe(1);
});

test.each([
  ['repeated', 'key / 2 * 2', /more than one row for a key/],
  ['null', 'nullif(key, 5000)', /whose key is null/],
])('%s keys of rows that are taken as the query gives them stop the load, and are shown', async (_, key, message) => {
  const contract = `${PLAIN}, primary key (key)) with (load = merge, business_key = 'key')`;
  const open = (query: string) =>
    loadsOf(client, SCHEMA, contract, query, source('key bigint, x text, n numeric(8,2)'));
  const sound = await open(QUERY);
  await sound.reset();
  await fill(ROWS);
  await sound.load('2026-01-01');
  await client.query("analyze t; update src set x = x || '?'");
  const before = await written(client, 't');
  const faulty = (await open(`select ${key} as key, x, n from landing.src`)).load('2026-01-02');
  await expect(faulty).rejects.toMatchObject({
    message: expect.stringMatching(message),
    rows: expect.arrayContaining([expect.objectContaining({ x: expect.stringMatching(/\?$/) })]),
  });
  expect(await written(client, 't')).toBe(before);
});

const VALID = `valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')`;
const EVENTS = [
  ['few keys have new events', `key bigint, x text, ${VALID}`, 100, /^changed in place: about \d+ of about 20000 rows/],
  ['many keys have new events', `key bigint, x text, ${VALID}`, 2, /^all rows rewritten: about/],
  [
    'many keys have new events, versions are numbered',
    `id bigint options (role 'surrogate key'), key bigint, x text, ${VALID}`,
    2,
    /^all rows rewritten: about/,
  ],
] as const;

test.each(EVENTS)('history from events: %s', async (_, columns, every, note) => {
  const event = (from: number, day: number, step: number) =>
    `select i::bigint as key, 'x' || i % 10 || '.' || ${day} as x, timestamptz '2026-01-01' + interval '${day} days' as at from generate_series(${from}, ${ROWS}, ${step}) as i`;
  const outcomes: string[] = [];
  for (const more of ['', ', shape = in_place', ', shape = rewrite']) {
    const loads = await loadsOf(
      client,
      SCHEMA,
      `${columns}) with (load = history, business_key = 'key', effective_from = 'at'${more})`,
      'select key, x, at from landing.src',
      source('key bigint, x text, at timestamptz'),
    );
    await loads.reset();
    await client.query(`drop table if exists src; create table src as ${event(1, 10, 1)}`);
    await loads.load('2026-02-01');
    await client.query('analyze t');
    // Some events come late, some are later than all before.
    await client.query(
      `drop table src; create table src as ${event(every, 5, every)} union all ${event(every, 20, 2 * every)}`,
    );
    const fresh = Math.floor(ROWS / every) + Math.floor((ROWS - every) / (2 * every) + 1);
    expect(await loads.load('2026-02-02')).toEqual({ 'new events': fresh, unchanged: 0 });
    if (more === '') expect(loads.note()).toMatch(note);
    outcomes.push(
      (
        await client.query<{ mark: string }>(
          'select md5(string_agg(t::text, chr(10) order by key, valid_from)) as mark from t',
        )
      ).rows[0]!.mark,
    );
    expect(await loads.load('2026-02-03')).toEqual({ 'new events': 0, unchanged: fresh });
  }
  expect(new Set(outcomes).size).toBe(1);
  // Each event said something new, so that each began a version.
  const { rows } = await client.query<{ n: string }>('select count(*) as n from t');
  expect(Number(rows[0]!.n)).toBe(ROWS + Math.floor(ROWS / every) + Math.floor((ROWS - every) / (2 * every) + 1));
});
