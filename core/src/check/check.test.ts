import { beforeAll, describe, expect, test } from '@jest/globals';
import { orderOf, reachable, readersOf, select } from '../graph/graph.js';
import { compareProjects } from '../review/changes.js';
import { loadParser } from '../sql/parser.js';
import { changed, projectOf } from '../testing.js';
import { conditionProbes } from './condition-probes.js';
import { constraintChecks } from './constraint-checks.js';
import { checksOf, checkTitle, queryCheck, queryCheckStatements, rowsStatement } from './checks.js';
import { readTolerance, readTolerances } from '../language/tolerance.js';
import { verdictOf, worst, type Verdict } from './verdict.js';

beforeAll(loadParser);

test.each<[string, Parameters<typeof verdictOf>[0], number, number | undefined, Verdict]>([
  ['no row at fault', { advisory: false }, 0, 10, 'holds'],
  ['one row', { advisory: false }, 1, 10, 'broken'],
  ['advisory', { advisory: true }, 9, 10, 'advisory'],
  ['within a count', { advisory: false, tolerate: { kind: 'count', count: 3 } }, 3, 10, 'advisory'],
  ['beyond a count', { advisory: false, tolerate: { kind: 'count', count: 3 } }, 4, 10, 'broken'],
  ['within a share', { advisory: false, tolerate: { kind: 'share', share: 0.005 } }, 5, 1000, 'advisory'],
  ['beyond a share', { advisory: false, tolerate: { kind: 'share', share: 0.005 } }, 6, 1000, 'broken'],
  [
    'a share of an unknown number',
    { advisory: false, tolerate: { kind: 'share', share: 0.5 } },
    1,
    undefined,
    'broken',
  ],
])('verdict: %s', (_, check, atFault, total, expected) => expect(verdictOf(check, atFault, total)).toBe(expected));

test.each<[Verdict[], Verdict | undefined]>([
  [['holds', 'advisory', 'holds'], 'advisory'],
  [['holds', 'broken', 'advisory'], 'broken'],
  [['holds', 'not run'], 'not run'],
  [[], undefined],
])('the worst of %j', (verdicts, expected) => expect(worst(verdicts)).toBe(expected));

test('tolerances are read', () => {
  expect(readTolerance('0.5%')).toEqual({ kind: 'share', share: 0.005 });
  expect(readTolerance('some')).toBeUndefined();
  expect([...readTolerances('a: 3, b: 1%')]).toEqual([
    ['a', { kind: 'count', count: 3 }],
    ['b', { kind: 'share', share: 0.01 }],
  ]);
});

describe('statements of checks', () => {
  const project = () =>
    projectOf({
      'core/x.sql':
        "create table core.x (a int not null, b int check (b > 0), c text references reference.flag, unique (a, b)) with (tolerate = 'x_b_check: 2'); select 1 as a, 2 as b, 'MR' as c",
      'reference/flag.sql': 'create table reference.flag (flag_code text primary key, flag_name text)',
      'checks/odd.sql':
        "create view checks.odd with (advisory = true, about = 'core.x') as select a from core.x where a % 2 = 1; comment on view checks.odd is 'None is odd.'",
    });
  const rows = (name: string) => {
    const p = project();
    const check = constraintChecks(p, p.tables.get('core.x')!).find((c) => c.name === name)!;
    return rowsStatement(check, (t) => ({ schema: t.split('.')[0]!, name: t.split('.')[1]! }), 5).replaceAll('\n', ' ');
  };
  test.each<[string, string]>([
    ['x_a_not_null', 'select * from "core"."x" as "x" where "a" is null limit 5'],
    ['x_b_check', 'select * from "core"."x" as "x" where (b > 0 ) is false limit 5'],
    [
      'x_a_b_key',
      'select * from "core"."x" as "x" where ("a", "b") in (select "a", "b" from "core"."x" group by "a", "b" having count(*) > 1) order by "a", "b" limit 5',
    ],
    [
      'x_c_fkey',
      'select * from "core"."x" as "x" where "x"."c" is not null and not exists (select from "reference"."flag" as known where known."flag_code" = "x"."c") limit 5',
    ],
  ])('rows of %s', (name, sql) => expect(rows(name)).toBe(sql));

  test('titles are plain words', () =>
    expect(checksOf(project()).map(checkTitle)).toEqual(
      expect.arrayContaining(['a is never null', 'b > 0', 'c is known in reference.flag', 'a, b is unique', 'odd']),
    ));
  test('a query of checks/', () => {
    const check = queryCheck(project().checks.get('odd')!);
    expect(check).toMatchObject({
      id: 'checks/odd',
      about: 'core.x',
      advisory: true,
      reads: ['core.x'],
      comment: 'None is odd.',
    });
    expect(queryCheckStatements('select 1', 9).rows).toBe('select * from (\nselect 1\n) as at_fault limit 9');
  });
});

describe('members that the source does not know', () => {
  const project = () =>
    projectOf({
      'core/berth.sql':
        "create table core.berth (berth_key bigint options (role 'surrogate key') primary key, berth_code text not null, depth numeric check (depth > 0)) with (load = merge, business_key = 'berth_code'); select 'B' as berth_code, 2 as depth",
      'core/visit.sql':
        "create table core.visit (visit_no integer, berth_key bigint options (looked_up_by 'berth_code', missing 'infer') references core.berth) with (load = merge, business_key = 'visit_no'); select 1 as visit_no, 'B' as berth_code",
      'core/alone.sql':
        "create table core.alone (alone_key bigint options (role 'surrogate key') primary key, code text check (code > '')) with (load = merge, business_key = 'code'); select 'A' as code",
    });
  const placeOf = (t: string) => ({ schema: t.split('.')[0]!, name: t.split('.')[1]! });
  const condition = (table: string, name: string, home = true) => {
    const p = project();
    const found = constraintChecks(p, p.tables.get(table)!, home ? placeOf(table) : undefined);
    return rowsStatement(
      found.find((c) => c.name === name)!,
      placeOf,
      5,
    )
      .split('\n')
      .slice(1, -1)
      .join(' ');
  };
  test.each<[string, string, string, boolean, string]>([
    [
      'the unknown one and placeholders are exempt',
      'core.berth',
      'berth_depth_check',
      true,
      `where ((depth > 0 ) is false) and "berth"."berth_key" <> 0 and ("berth"."berth_code") not in (select "berth_code" from "core"."berth~inferred")`,
    ],
    [
      'where nothing is run, the place of placeholders is not known',
      'core.berth',
      'berth_depth_check',
      false,
      'where ((depth > 0 ) is false) and "berth"."berth_key" <> 0',
    ],
    ['a table that nobody looks up has none', 'core.alone', 'alone_code_check', true, `where (code > '' ) is false`],
  ])('%s', (_, table, name, home, expected) => expect(condition(table, name, home)).toBe(expected));
});

describe('graphs', () => {
  const reads = new Map<string, string[]>([
    ['d', ['b', 'c']],
    ['b', ['a']],
    ['c', ['a']],
    ['a', []],
    ['e', ['d']],
  ]);
  test('order, distance and selection', () => {
    expect(orderOf(reads).order).toEqual(['a', 'b', 'c', 'd', 'e']);
    expect([...reachable(reads, ['e'], 2)]).toEqual([
      ['e', 0],
      ['d', 1],
      ['b', 2],
      ['c', 2],
    ]);
    expect(readersOf(reads).get('a')).toEqual(['b', 'c']);
    expect([...select(reads, { tables: ['b'], upstream: true, downstream: false })].sort()).toEqual(['a', 'b']);
    expect([...select(reads, { tables: ['b'], upstream: false, downstream: true })].sort()).toEqual(['b', 'd', 'e']);
  });
  test('a cycle is a closed path, and what reads it is still ordered', () => {
    const { order, cycles } = orderOf(
      new Map([
        ['a', ['b']],
        ['b', ['a']],
        ['c', []],
      ]),
    );
    expect(cycles).toEqual([['a', 'b', 'a']]);
    expect(order).toEqual(['c']);
  });
  test('a deep chain needs no deep stack', () => {
    const chain = new Map(Array.from({ length: 20_000 }, (_, i) => [`t${i}`, i ? [`t${i - 1}`] : []]));
    expect(orderOf(chain).order).toHaveLength(20_000);
  });
});

test('two states of a project: changed, downstream, new, deleted, columns', () => {
  const before = projectOf({ 'mart/gone.sql': 'select 1 as a' });
  const after = changed(before, {
    'staging/berth.sql': 'select berth_code, length_m::numeric(8,1) as length_m, 1 as extra from landing.berth',
    'mart/fresh.sql': 'select 1 as a',
    'mart/gone.sql': null,
  });
  const { files, tables } = compareProjects(before, after);
  expect(files.map((f) => `${f.path} ${f.kind}`)).toEqual([
    'mart/fresh.sql new',
    'mart/gone.sql deleted',
    'staging/berth.sql changed',
  ]);
  expect(
    Object.fromEntries(
      tables.map((t) => [
        t.table,
        `${t.kind} +${t.columnsAdded.join()} -${t.columnsDropped.join()} ~${t.columnsRetyped.join()}`,
      ]),
    ),
  ).toEqual({
    'staging.berth': 'changed +extra - ~length_m',
    'core.fact_call': 'downstream + - ~length_m',
    'mart.fresh': 'new + - ~',
    'mart.gone': 'deleted + -a ~',
  });
});

test.each<[string, string, string, string]>([
  ['a rename', "a text, c integer options (was 'b')", 'a text, b integer', '+ - b>c ~'],
  ['a rename to another type', "a text, c bigint options (was 'b')", 'a text, b integer', '+ - b>c ~c'],
  ['one that was renamed before', "a text, c integer options (was 'b')", 'a text, c integer', '+ -  ~'],
  [
    'a former name that is a column still',
    "a text, b integer, c integer options (was 'b')",
    'a text, b integer',
    '+c -  ~',
  ],
  ['a former name that never was', "a text, c integer options (was 'x')", 'a text, b integer', '+c -b  ~'],
])('columns of another state of a table: %s', (_, after, before, found) => {
  const text = (columns: string) =>
    `create table core.t (${columns}) with (load = rebuild);\nselect 'x' as a, 1 as b, 2 as c`;
  const from = projectOf({ 'core/t.sql': text(before) });
  const [t] = compareProjects(from, changed(from, { 'core/t.sql': text(after) })).tables;
  const renamed = t!.columnsRenamed.map((r) => `${r.was}>${r.now}`).join();
  expect(`+${t!.columnsAdded.join()} -${t!.columnsDropped.join()} ${renamed} ~${t!.columnsRetyped.join()}`).toBe(found);
});

test.each<[string, string, unknown]>([
  ['a count', "with (tolerate = '5')", { kind: 'count', count: 5 }],
  ['a share', "with (tolerate = '2%')", { kind: 'share', share: 0.02 }],
  ['nothing', '', undefined],
])('a check of its own tolerates %s', (_, options, tolerate) => {
  const of = projectOf({ 'checks/few.sql': `create view checks.few ${options} as select call_no from landing.call` });
  expect(queryCheck(of.checks.get('few')!).tolerate).toEqual(tolerate);
});

test('conditions that the database can be asked about are those of checks without functions, and of sources', () => {
  const of = projectOf({
    'sources/more.sql': `create server more foreign data wrapper postgres_fdw;
create foreign table landing.tide (height numeric, day date) server more options (only 'height > 0');`,
    'core/tide.sql': `create table core.tide (
  height numeric check (height < 20), day date unique, constraint doubled check (functions.twice(height) > 0)
) with (load = rebuild);
select height, day from landing.tide`,
  });
  const probes = ['sources/more.sql', 'core/tide.sql'].flatMap((path) => conditionProbes(of, path));
  expect(probes.map((p) => [p.what, p.sql.split('\n')[1]])).toEqual([
    ['option only of landing.tide', 'where (height > 0'],
    ['constraint tide_height_check', 'where (height < 20'],
  ]);
});
