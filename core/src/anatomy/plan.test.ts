import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { adviceOn, type ScannedTable } from './advice.js';
import { planNodes, type ExplainedNode } from './plan.js';
import type { Step } from './step.js';

beforeAll(loadParser);

const node = (type: string, more: Partial<ExplainedNode> = {}): ExplainedNode => ({
  'Node Type': type,
  'Total Cost': 10,
  'Plan Rows': 100,
  'Actual Rows': 100,
  'Actual Loops': 1,
  'Actual Total Time': 100,
  ...more,
});
const scan = (alias: string, more: Partial<ExplainedNode> = {}) =>
  node('Seq Scan', { 'Relation Name': 'call', Schema: 'core', Alias: alias, ...more });
const step = (id: string, kind: Step['kind'], inputs: readonly string[], name?: string): Step => ({
  id,
  kind,
  label: id,
  depth: 0,
  start: 0,
  end: 1,
  inputs,
  known: {},
  columns: undefined,
  looks: [],
  count: undefined,
  ...(name === undefined ? {} : { name }),
});

const STEPS = [
  step('c', 'source', [], 'c'),
  step('b', 'source', [], 'b'),
  step('join b', 'join', ['c', 'b']),
  step('again', 'source', [], 'b'),
  step('join again', 'join', ['join b', 'again']),
  step('group', 'group', ['join again']),
];

describe('the nodes of a plan', () => {
  test('serve steps', () => {
    const inner = node('Hash Join', { Plans: [scan('c'), node('Hash', { Plans: [scan('b')] })] });
    const Plan = node('Aggregate', {
      Strategy: 'Hashed',
      Plans: [node('Nested Loop', { 'Join Type': 'Left', Plans: [inner, scan('b_1')] })],
    });
    expect(planNodes({ Plan }, STEPS).map((n) => `${n.type} ${n.step}`)).toEqual([
      'hashed aggregate group',
      'nested loop (left) join again',
      'hash join join b',
      'seq scan c',
      'hash join b',
      'seq scan b',
      'seq scan again',
    ]);
  });
  test('a subquery’s scan has no rows of its own, and what a view reads has other names', () => {
    const Plan = node('Hash Join', {
      Plans: [node('Subquery Scan', { Alias: 'q', Plans: [scan('c')] }), scan('inside of the view')],
    });
    expect(planNodes({ Plan }, STEPS).map((n) => n.step)).toEqual(['join b', 'c', 'c', 'join b']);
  });
  test('say what they take themselves, and what they wrote to disk', () => {
    const Plan = node('Sort', {
      'Actual Total Time': 12,
      'Total Cost': 30,
      'Sort Key': ['c.no'],
      'Sort Space Type': 'Disk',
      'Sort Space Used': 900,
      Plans: [
        node('Hash Join', {
          'Actual Total Time': 10,
          'Hash Batches': 4,
          'Temp Written Blocks': 5,
          'Rows Removed by Filter': 2,
          Plans: [scan('c', { 'Actual Total Time': 1, 'Actual Loops': 6, 'Temp Written Blocks': 2 })],
        }),
      ],
    });
    const shown = planNodes({ Plan }, []).map(({ ownTime, ownCost, spilled, loops, rows, removed, condition }) => ({
      ownTime,
      ownCost,
      spilled,
      loops,
      rows,
      removed,
      condition,
    }));
    expect(shown).toMatchInlineSnapshot(`
     [
       {
         "condition": "by c.no",
         "loops": 1,
         "ownCost": 20,
         "ownTime": 2,
         "removed": undefined,
         "rows": 100,
         "spilled": 900,
       },
       {
         "condition": undefined,
         "loops": 1,
         "ownCost": 0,
         "ownTime": 4,
         "removed": 2,
         "rows": 100,
         "spilled": 24,
       },
       {
         "condition": undefined,
         "loops": 6,
         "ownCost": 10,
         "ownTime": 6,
         "removed": undefined,
         "rows": 600,
         "spilled": undefined,
       },
     ]
    `);
  });
  test('of a plan that was not run have neither rows nor times', () => {
    const { 'Actual Rows': _, 'Actual Loops': __, 'Actual Total Time': ___, ...Plan } = scan('c');
    expect(planNodes({ Plan }, STEPS)[0]).toEqual({
      id: 0,
      depth: 0,
      type: 'seq scan',
      relation: { schema: 'core', name: 'call' },
      alias: 'c',
      estimatedRows: 100,
      ownCost: 10,
      step: 'c',
    });
  });
});

describe('advice', () => {
  const TABLE: ScannedTable = {
    table: 'core.call',
    canHaveIndex: true,
    indexed: ['no'],
    varying: ['code'],
    staleShare: 0,
  };
  const advised = (Plan: ExplainedNode, table: Partial<ScannedTable> = {}) =>
    adviceOn(planNodes({ Plan }, []), () => ({ ...TABLE, ...table })).map((a) => a.statement ?? a.reason);
  const few = { 'Actual Rows': 10, 'Plan Rows': 10, 'Rows Removed by Filter': 99_990 };
  test.each<[string, ExplainedNode, Partial<ScannedTable>, readonly string[]]>([
    [
      'few rows kept',
      scan('c', { ...few, Filter: "(c.berth = 'B-7'::text)" }),
      {},
      ['create index on core.call (berth);'],
    ],
    [
      'an equality before a bound',
      scan('c', { ...few, Filter: '((c.n > 5) AND (7 = c.m))' }),
      {},
      ['create index on core.call (m);'],
    ],
    ['a bound', scan('c', { ...few, Filter: '(c.n > 5)' }), {}, ['create index on core.call (n);']],
    [
      'a name that needs quotes',
      scan('c', { ...few, Filter: '(c."Berth" = 5)' }),
      {},
      ['create index on core.call ("Berth");'],
    ],
    [
      'a column of varying length',
      scan('c', { ...few, Filter: "((c.code)::text = 'x'::text)" }),
      {},
      ['create index on core.call (code);'],
    ],
    [
      'a cast around an indexed column',
      scan('c', { ...few, Filter: "((c.no)::text = '7'::text)" }),
      {},
      [
        '100,000 rows of core.call are read to keep 10. There is an index on no, but the condition compares a cast of it: compare the column itself.',
      ],
    ],
    [
      'a function around an indexed column',
      scan('c', { ...few, Filter: '(abs(c.no) = 7)' }),
      {},
      [
        '100,000 rows of core.call are read to keep 10. There is an index on no, but the condition compares what a function makes of it: compare the column itself.',
      ],
    ],
    ['an index that is there', scan('c', { ...few, Filter: '(c.no = 7)' }), {}, []],
    [
      'many rows kept',
      scan('c', { 'Actual Rows': 6000, 'Plan Rows': 6000, 'Rows Removed by Filter': 94_000, Filter: '(c.m = 7)' }),
      {},
      [],
    ],
    ['a small table', scan('c', { ...few, 'Rows Removed by Filter': 9_990, Filter: '(c.m = 7)' }), {}, []],
    ['a table that declares none', scan('c', { ...few, Filter: '(c.m = 7)' }), { canHaveIndex: false }, []],
    ['a condition between two of its columns', scan('c', { ...few, Filter: '(c.m = c.n)' }), {}, []],
    ['conditions of which any may hold', scan('c', { ...few, Filter: '((c.m = 1) OR (c.n = 2))' }), {}, []],
    [
      'a scan without weight',
      node('Hash Join', {
        'Actual Total Time': 5000,
        Plans: [scan('c', { ...few, Filter: '(c.m = 7)', 'Actual Total Time': 3 })],
      }),
      {},
      [],
    ],
    [
      'a table read again and again',
      node('Nested Loop', {
        'Join Filter': '(v.k = c.k)',
        'Plan Rows': 1000,
        Plans: [node('Materialize'), scan('c', { 'Actual Loops': 1000, 'Actual Rows': 5000, 'Plan Rows': 5000 })],
      }),
      {},
      ['create index on core.call (k);'],
    ],
    [
      'statistics of before',
      scan('c', { 'Plan Rows': 100, 'Actual Rows': 9000 }),
      { staleShare: 0.5 },
      ['analyze core.call;'],
    ],
    ['a wrong estimate in spite of new statistics', scan('c', { 'Plan Rows': 100, 'Actual Rows': 9000 }), {}, []],
  ])('%s', (_, Plan, table, expected) => expect(advised(Plan, table)).toEqual(expected));
});
