import { beforeAll, describe, expect, test } from '@jest/globals';
import { constraintChecks } from '@ouvrage/core/check';
import { referenceCheckQuery } from '@ouvrage/core/intake';
import { readProject } from '@ouvrage/core/resolve';
import {
  matchByValues,
  matchColumns,
  readSharedValues,
  relationPairs,
  relationsFromValues,
  sharedValuesQuery,
  stackPairs,
  type KeyedTable,
  type ValuePair,
} from '@ouvrage/core/starter';
import { random, scratch } from './testing-sql.js';

/** What is found out by asking the database about values: relations, columns that match, checks of typed-in rows. */
const SCHEMA = 'values_test';
const client = scratch(SCHEMA);

const rowsOf = async (sql: string) => (await client.query<(string | null)[]>({ text: sql, rowMode: 'array' })).rows;
const shared = async (pairs: readonly ValuePair[]) => readSharedValues(pairs, await rowsOf(sharedValuesQuery(pairs)));
const keyed = (name: string, key: string, columns: Readonly<Record<string, string>>): KeyedTable => ({
  fullName: `${SCHEMA}.${name}`,
  layer: SCHEMA,
  key: key ? [key] : [],
  columns: Object.entries(columns).map(([n, type]) => ({ name: n, type })),
});

describe('relations guessed from values', () => {
  const quay = keyed('quay', 'quay', { quay: 'text', length: 'integer' });
  const crane = keyed('crane', 'crane_no', {
    crane_no: 'integer',
    stands_at: 'text',
    lifts: 'integer',
    "bui'lt": 'date',
  });
  const shift = keyed('shift', '', { worked_at: 'text', crane_no: 'integer', hours: 'integer' });
  const all = [quay, crane, shift];
  beforeAll(async () => {
    await client.query(`
      create table quay (quay text, length integer);
      insert into quay select 'Q' || i, i from generate_series(1, 20) i;
      create table crane (crane_no integer, stands_at text, lifts integer, "bui'lt" date);
      insert into crane select i, 'Q' || (i % 20 + 1), i % 9, null from generate_series(1, 60) i;
      create table shift (worked_at text, crane_no integer, hours integer);
      insert into shift select case when i % 40 = 0 then 'elsewhere' else 'Q' || (i % 19 + 1) end, i % 60 + 1, i % 8 from generate_series(1, 400) i`);
  });
  const guess = async (about: string) =>
    relationsFromValues(await shared(relationPairs(all, `${SCHEMA}.${about}`, [])));

  test('a column whose values are all keys of another table', async () => {
    const found = await guess('crane');
    expect(found.map((r) => `${r.from}.${r.fromColumns.join()} ${r.to} ${r.share}`)).toEqual([
      `${SCHEMA}.shift.crane_no ${SCHEMA}.crane 1`,
      `${SCHEMA}.crane.stands_at ${SCHEMA}.quay 1`,
    ]);
    expect(found.every((r) => !r.declared && r.toOne)).toBe(true);
  });
  test('nearly all is a guess too, with its share', async () => {
    const [relation] = (await guess('quay')).filter((r) => r.from.endsWith('shift'));
    expect(relation).toMatchObject({ fromColumns: ['worked_at'], toColumns: ['quay'], share: 19 / 20 });
  });
  test('plain numbers are not asked about: any small number is some key', () => {
    expect(relationPairs(all, `${SCHEMA}.shift`, []).map((p) => p.from.column)).not.toContain('hours');
  });
  test('what is known is not asked again', () => {
    const known = {
      from: `${SCHEMA}.crane`,
      fromColumns: ['stands_at'],
      to: `${SCHEMA}.quay`,
      toColumns: ['quay'],
      declared: true,
      toOne: true,
    };
    expect(relationPairs(all, `${SCHEMA}.crane`, [known]).some((p) => p.from.column === 'stands_at')).toBe(false);
  });
});

describe('shares of values are right', () => {
  test.each(Array.from({ length: 25 }, (_, seed) => seed))('seed %i', async (seed) => {
    const next = random(seed);
    const column = () => Array.from({ length: next(40) }, () => (next(6) === 0 ? null : `v${next(12)}`));
    const [a, b] = [column(), column()];
    await client.query('drop table if exists a, b; create table a (x text); create table b (y text)');
    await client.query('insert into a select unnest($1::text[])', [a]);
    await client.query('insert into b select unnest($1::text[])', [b]);
    const different = [...new Set(a.filter((v) => v !== null))];
    const [answer] = await shared([
      { from: { table: `${SCHEMA}.a`, column: 'x' }, to: { table: `${SCHEMA}.b`, column: 'y' }, type: 'text' },
    ]);
    expect(answer).toMatchObject({ values: different.length, found: different.filter((v) => b.includes(v)).length });
  });
});

test('columns of a stack are matched by their values where their names say nothing', async () => {
  await client.query(`
    create table north (call_no text, ship text, length numeric(6,1));
    insert into north select 'N' || i, 'ship ' || i % 30, i from generate_series(1, 90) i;
    create table south (call_no text, keel text, berth text, metres numeric(8,2));
    insert into south select 'S' || i, 'ship ' || i % 28, 'B' || i % 5, i from generate_series(1, 80) i`);
  const tables = [
    keyed('north', '', { call_no: 'text', ship: 'text', length: 'numeric(6,1)' }),
    keyed('south', '', { call_no: 'text', keel: 'text', berth: 'text', metres: 'numeric(8,2)' }),
  ];
  const byName = matchColumns(tables);
  expect(byName.map((c) => c.from)).toEqual([
    ['call_no', 'call_no'],
    ['ship', null],
    ['length', null],
    [null, 'keel'],
    [null, 'berth'],
    [null, 'metres'],
  ]);
  const matched = matchByValues(tables, byName, await shared(stackPairs(tables, byName)));
  expect(matched.map((c) => [c.name, c.type, c.from])).toEqual([
    ['call_no', 'text', ['call_no', 'call_no']],
    ['ship', 'text', ['ship', 'keel']],
    ['length', 'numeric(8,2)', ['length', 'metres']],
    ['berth', 'text', [null, 'berth']],
  ]);
});

describe('typed-in rows of a reference table', () => {
  const project = () =>
    readProject(
      new Map([
        ['layers.sql', `create schema reference; create schema ${SCHEMA};`],
        ['reference/pier.csv', 'pier,depth,deepest,owner\n'],
        [
          'reference/pier.sql',
          `create table reference.pier (pier text primary key, depth numeric(4,1) constraint in_water check (depth > 0), deepest numeric(4,1),
             owner text references ${SCHEMA}.owner (owner), constraint in_order check (depth <= deepest));`,
        ],
        [`${SCHEMA}/owner.sql`, `create table ${SCHEMA}.owner (owner text primary key); select 'port' as owner;`],
      ]),
    );
  const columns = [
    { name: 'pier', type: 'text', notNull: true, isKey: true },
    { name: 'depth', type: 'numeric(4,1)', notNull: false, isKey: false },
    { name: 'deepest', type: 'numeric(4,1)', notNull: false, isKey: false },
    { name: 'owner', type: 'text', notNull: false, isKey: false },
  ];
  const HEADER = ['pier', 'depth', 'deepest', 'owner'];
  const checked = async (rows: (string | null)[][], unsound: number[] = [], header = HEADER) => {
    const read = project();
    const checks = constraintChecks(read, read.tables.get('reference.pier')!);
    const sql = referenceCheckQuery({ name: 'pier', columns }, checks, { header, rows }, new Set(unsound));
    return sql === undefined
      ? undefined
      : (await rowsOf(sql)).map(([row, check]) => `${row} ${checks[Number(check)]!.name}`);
  };
  beforeAll(() => client.query(`create table owner as select 'port'::text as owner union all select 'o''neil\\'`));
  test.each<[string, (string | null)[][], string[]]>([
    ['sound rows', [['A', '3.5', '4', 'port']], []],
    ['a condition', [['A', '-1', '4', 'port']], ['0 in_water']],
    ['null conditions hold', [['A', null, null, null]], []],
    ['conditions over two columns', [['A', '5', '4', null]], ['0 in_order']],
    ['an unknown reference', [['A', '5', '6', 'nobody']], ['0 pier_owner_fkey']],
    ['quotes and backslashes are values', [["'; drop table owner --", '5', '6', "o'neil\\"]], []],
    [
      'the rows are told apart',
      [
        ['A', '1', '2', null],
        ['B', '-1', '-2', 'nobody'],
        ['C', '1', '1', 'port'],
      ],
      ['1 in_water', '1 in_order', '1 pier_owner_fkey'],
    ],
  ])('%s', async (_, rows, expected) => expect((await checked(rows))!.sort()).toEqual([...expected].sort()));
  test('a row with a value that is not of its type is left out', async () =>
    expect(
      await checked(
        [
          ['A', 'deep', '1', null],
          ['B', '-1', '1', null],
        ],
        [0],
      ),
    ).toEqual(['1 in_water']));
  test('a check of a column that the file lacks is not asked', async () =>
    expect(await checked([['A']], [], ['pier'])).toBeUndefined());
  test('no rows, no question', async () => expect(await checked([])).toBeUndefined());
});
