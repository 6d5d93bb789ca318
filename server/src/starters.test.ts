import { describe, expect, test } from '@jest/globals';
import { readProject } from '@ouvrage/core/resolve';
import {
  cleanTable,
  fromRelated,
  matchColumns,
  multiplies,
  proposeClean,
  relationsOf,
  splitCounts,
  splitTable,
  stackTables,
  stepsFrom,
  type CleanColumn,
  type JoinedTable,
} from '@ouvrage/core/starter';
import { client, full, multiset, open, random, run, SEEDS, table, type Value } from './starters-harness.js';

/** Every starter's SQL, run over random rows and held against a plain computation: the same rows as a multiset. */
const SCHEMA = 'starter_test';
open(SCHEMA);

describe('clean', () => {
  const TEXTS = ['a', ' b ', '', '  ', 'n/a', 'IN', ' OUT', '7', ' 42 '];
  const naive = (v: string | null, c: CleanColumn): Value => {
    let value: string | null = v;
    if (value !== null && c.trim) value = value.replace(/^ +| +$/g, '');
    for (const none of c.nullTexts ?? []) if (value === none) value = null;
    for (const [code, said] of c.decode ?? []) {
      if (value === code) {
        value = said;
        break;
      }
    }
    return value ?? c.fallback ?? null;
  };
  test.each(SEEDS)('seed %i', async (seed) => {
    const r = random(seed);
    const rows = r.rows(20, () => [r.maybe(r.pick(TEXTS)), r.maybe(r.pick(TEXTS)), r.maybe(r.below(9))]);
    await table('raw', { 'First Col': 'text', order: 'text', n: 'integer' }, rows);
    const flag = () => r.below(2) === 0;
    const columns: CleanColumn[] = ['First Col', 'order'].map((from, i) => ({
      from,
      name: `c${i}`,
      trim: flag(),
      nullTexts: flag() ? ['', 'n/a'] : [],
      ...(flag()
        ? {
            decode: [
              ['IN', 'inbound'],
              ['OUT', "o'ut"],
            ] as const,
          }
        : {}),
      ...(flag() ? { fallback: 'none' } : {}),
    }));
    const only = flag() ? 'n > 3 -- large ones' : undefined;
    const sql = cleanTable({
      source: {
        fullName: full('raw'),
        columns: [
          { name: 'First Col', type: 'text' },
          { name: 'order', type: 'text' },
          { name: 'n', type: 'integer' },
        ],
      },
      columns: [...columns, { from: 'n', name: 'n', cast: 'numeric(6,2)' }],
      derived: [{ name: 'twice', expression: 'n * 2' }],
      ...(only ? { only } : {}),
    });
    const kept = only ? rows.filter((x) => x[2] !== null && (x[2] as number) > 3) : rows;
    expect(await run(sql)).toEqual({
      names: ['c0', 'c1', 'n', 'twice'],
      rows: multiset(
        kept.map((x) => [
          naive(x[0] as string | null, columns[0]!),
          naive(x[1] as string | null, columns[1]!),
          x[2]!,
          x[2] === null ? null : (x[2] as number) * 2,
        ]),
      ),
    });
  });

  test('proposals follow names, types and what was found', () => {
    const column = (
      name: string,
      type: string,
      frequent: [string, number][] = [],
      patterns: [string, number][] = [],
    ) => ({
      name,
      type,
      profile: {
        name,
        type,
        shape: 'text' as const,
        nulls: 0,
        distinct: frequent.length,
        least: null,
        greatest: null,
        mean: null,
        quantiles: null,
        frequent,
        histogram: null,
        lengths: null,
        patterns,
      },
    });
    const columns = [
      column('BerthID', 'integer'),
      column('Amount', 'money'),
      column('note', 'text', [['x', 9]], [['a', 9]]),
      column(
        'paid',
        'text',
        [
          ['Y', 4],
          ['N', 2],
        ],
        [['a', 6]],
      ),
      column('on', 'text', [['2026-01-01', 1]], [['9999-99-99', 1]]),
      column(
        'qty',
        'text',
        [
          ['12', 1],
          ['n/a', 1],
        ],
        [
          ['99', 1],
          ['a/a', 1],
        ],
      ),
      column('zip', 'text', [['0123', 1]], [['9999', 1]]),
    ];
    expect(
      proposeClean(
        { fullName: 'l.t', columns },
        columns.map((c) => c.profile),
      ),
    ).toEqual([
      { from: 'BerthID', name: 'berth_id' },
      { from: 'Amount', name: 'amount', cast: 'numeric(14,2)' },
      { from: 'note', name: 'note', trim: true, nullTexts: [''] },
      { from: 'paid', name: 'paid', trim: true, nullTexts: [''], cast: 'boolean' },
      { from: 'on', name: 'on', trim: true, nullTexts: [''], cast: 'date' },
      { from: 'qty', name: 'qty', trim: true, nullTexts: ['', 'n/a'] },
      { from: 'zip', name: 'zip', trim: true, nullTexts: [''] },
    ]);
  });

  test('money becomes a number', async () => {
    await client.query(
      "drop table if exists paid; create table paid (amount money); insert into paid values ('12.50'), (null)",
    );
    const source = { fullName: full('paid'), columns: [{ name: 'amount', type: 'money' }] };
    expect((await run(cleanTable({ source, columns: proposeClean(source), derived: [] }))).rows).toEqual(
      multiset([[12.5], [null]]),
    );
  });
});

describe('stack', () => {
  test.each(SEEDS)('seed %i', async (seed) => {
    const r = random(seed);
    const one = r.rows(12, () => [r.maybe(r.below(3)), r.maybe(r.pick(['x', 'y'])), r.maybe(r.below(2))]);
    const two = r.rows(12, () => [r.maybe(r.pick(['x', 'z'])), r.maybe(r.below(3)), r.below(2) === 0]);
    await table('north', { no: 'integer', berth_code: 'text', extra: 'smallint' }, one);
    await table('south', { berth_cod: 'varchar(5)', no: 'bigint', flag: 'boolean' }, two);
    const tables = [
      {
        fullName: full('north'),
        columns: [
          { name: 'no', type: 'integer' },
          { name: 'berth_code', type: 'text' },
          { name: 'extra', type: 'smallint' },
        ],
      },
      {
        fullName: full('south'),
        columns: [
          { name: 'berth_cod', type: 'varchar(5)' },
          { name: 'no', type: 'bigint' },
          { name: 'flag', type: 'boolean' },
        ],
      },
    ];
    const columns = matchColumns(tables);
    expect(columns).toEqual([
      { name: 'no', type: 'bigint', from: ['no', 'no'] },
      { name: 'berth_code', type: 'text', from: ['berth_code', 'berth_cod'] },
      { name: 'extra', type: 'smallint', from: ['extra', null] },
      { name: 'flag', type: 'boolean', from: [null, 'flag'] },
    ]);
    const distinct = r.below(2) === 0;
    const sql = stackTables({
      tables,
      columns,
      distinct,
      origin: { name: 'quay', values: ['N', "S'"] },
      order: ['no'],
    });
    const all = [
      ...one.map((x) => [x[0]!, x[1]!, x[2]!, null, 'N']),
      ...two.map((x) => [x[1]!, x[0]!, null, x[2]!, "S'"]),
    ];
    expect((await run(sql)).rows).toEqual(distinct ? [...new Set(multiset(all))] : multiset(all));
  });

  test('types that nothing unifies are refused until the author says one', () => {
    const columns = matchColumns([
      { fullName: 'a.a', columns: [{ name: 'x', type: 'date' }] },
      { fullName: 'a.b', columns: [{ name: 'x', type: 'integer' }] },
    ]);
    expect(columns).toEqual([{ name: 'x', type: undefined, from: ['x', 'x'] }]);
    expect(() => stackTables({ tables: [], columns, distinct: false })).not.toThrow();
    expect(() => stackTables({ tables: [{ fullName: 'a.a', columns: [] }], columns, distinct: false })).toThrow(
      'type of x',
    );
  });
});

describe('split', () => {
  test.each(SEEDS)('parts and remainder hold every row, counts say overlap and rest: seed %i', async (seed) => {
    const r = random(seed);
    const rows = r.rows(25, () => [r.maybe(r.below(10)), r.maybe(r.pick(['x', 'y']))]);
    await table('mixed', { n: 'integer', t: 'text' }, rows);
    const limit = r.below(10);
    const parts = [
      { name: 'large', condition: `n >= ${limit} -- large` },
      { name: 'xs', condition: "t = 'x'" },
    ];
    const naive = [(x: Value[]) => x[0] !== null && (x[0] as number) >= limit, (x: Value[]) => x[1] === 'x'];
    const queries = splitTable({ source: full('mixed'), parts, remainder: 'rest' });
    expect([...queries.keys()]).toEqual(['large', 'xs', 'rest']);
    for (const [i, name] of ['large', 'xs'].entries())
      expect((await run(queries.get(name)!)).rows).toEqual(multiset(rows.filter(naive[i]!)));
    expect((await run(queries.get('rest')!)).rows).toEqual(multiset(rows.filter((x) => !naive.some((n) => n(x)))));
    const counted = (await client.query<Record<string, string>>(splitCounts({ source: full('mixed'), parts })))
      .rows[0]!;
    const takes = rows.map((x) => naive.filter((n) => n(x)).length);
    expect(Object.values(counted).map(Number)).toEqual([
      rows.length,
      rows.filter(naive[0]!).length,
      rows.filter(naive[1]!).length,
      takes.filter((n) => n > 1).length,
      takes.filter((n) => n === 0).length,
    ]);
  });
});

describe('from related tables', () => {
  const FILES = {
    'layers.sql': `create schema ${SCHEMA};`,
    'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
create foreign table ${SCHEMA}.port (port_code text not null, port_name text, primary key (port_code)) server s;
create foreign table ${SCHEMA}.vessel (hull_no text not null, vessel_name text, primary key (hull_no)) server s;
create foreign table ${SCHEMA}.call (call_no integer not null, hull_no text, from_port_code text, to_port_code text, primary key (call_no),
  foreign key (from_port_code) references ${SCHEMA}.port (port_code), foreign key (to_port_code) references ${SCHEMA}.port) server s;
create foreign table ${SCHEMA}.cargo (call_no integer, tonnes integer, foreign key (call_no) references ${SCHEMA}.call (call_no)) server s;`,
  };

  test.each(SEEDS)('keeps the base’s rows, in several roles, with what is several added up: seed %i', async (seed) => {
    const r = random(seed);
    const ports = ['A', 'B', 'C'].filter(() => r.below(4) > 0).map((p) => [p, `port ${p}`]);
    const vessels = ['K1', 'K2'].filter(() => r.below(4) > 0).map((v) => [v, `vessel ${v}`]);
    const calls = r.rows(12, (i) => [
      i,
      r.maybe(r.pick(['K1', 'K2'])),
      r.maybe(r.pick(['A', 'B', 'C'])),
      r.maybe(r.pick(['A', 'B', 'C'])),
    ]);
    const cargo = r.rows(20, () => [r.maybe(r.below(12)), r.maybe(r.below(9))]);
    await table('port', { port_code: 'text', port_name: 'text' }, ports);
    await table('vessel', { hull_no: 'text', vessel_name: 'text' }, vessels);
    await table('call', { call_no: 'integer', hull_no: 'text', from_port_code: 'text', to_port_code: 'text' }, calls);
    await table('cargo', { call_no: 'integer', tonnes: 'integer' }, cargo);
    const relations = relationsOf(readProject(new Map(Object.entries(FILES))));
    const steps = stepsFrom(relations, full('call'));
    const step = (to: string, column: string) => steps.find((s) => s.to === full(to) && s.fromColumns[0] === column)!;
    expect(relations.map((x) => [x.from, x.fromColumns[0], x.to, x.declared, x.toOne].join(' '))).toEqual([
      `${full('call')} from_port_code ${full('port')} true true`,
      `${full('call')} to_port_code ${full('port')} true true`,
      `${full('cargo')} call_no ${full('call')} true true`,
      `${full('call')} hull_no ${full('vessel')} false true`,
    ]);
    const joins: JoinedTable[] = [
      { parent: -1, step: step('port', 'from_port_code'), columns: [{ column: 'port_name', name: 'from_port_name' }] },
      { parent: -1, step: step('port', 'to_port_code'), columns: [{ column: 'port_name', name: 'to_port_name' }] },
      { parent: -1, step: step('vessel', 'hull_no'), columns: [{ column: 'vessel_name', name: 'vessel_name' }] },
      {
        parent: -1,
        step: step('cargo', 'call_no'),
        columns: [],
        aggregate: [
          { kind: 'count', name: 'lines' },
          { kind: 'sum', column: 'tonnes', name: 'tonnes' },
        ],
      },
    ];
    const choices = { base: full('call'), columns: [{ column: 'call_no', name: 'call_no' }], joins };
    expect(multiplies(choices)).toBe(false);
    const look = (table: Value[][], key: Value | undefined) => table.find((p) => p[0] === key)?.[1] ?? null;
    const expected = calls.map(([no, hull, from, to]) => {
      const own = cargo.filter((c) => c[0] === no);
      const some = own.flatMap((c) => (c[1] === null ? [] : [c[1] as number]));
      return [
        no!,
        look(ports, from),
        look(ports, to),
        look(vessels, hull),
        own.length ? own.length : null,
        some.length ? some.reduce((a, b) => a + b, 0) : null,
      ];
    });
    expect(await run(fromRelated(choices))).toEqual({
      names: ['call_no', 'from_port_name', 'to_port_name', 'vessel_name', 'lines', 'tonnes'],
      rows: multiset(expected),
    });
    const plain = {
      ...choices,
      joins: [{ parent: -1, step: step('cargo', 'call_no'), columns: [{ column: 'tonnes', name: 'tonnes' }] }],
    };
    expect([multiplies(plain), fromRelated(plain)]).toEqual([true, expect.stringContaining('multiplies')]);
  });
});
