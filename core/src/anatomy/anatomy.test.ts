import { beforeAll, describe, expect, test } from '@jest/globals';
import { projectAround } from '../columns/around.js';
import { previewQuery } from '../keys/definition-query.js';
import type { Definition } from '../model/project.js';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { anatomyOf } from './read.js';
import { resultChecks } from './result-checks.js';
import type { Anatomy } from './step.js';

beforeAll(loadParser);

const placeOf = (table: string) => {
  const [schema, name] = table.split('.');
  return { schema: schema!, name: name! };
};
const NAMES = { placeOf, functionsSchema: 'functions' };

function anatomy(sql: string): Anatomy {
  const project = projectOf({ 'mart/x.sql': sql });
  const { query } = project.tables.get('mart.x') as Definition;
  const around = projectAround((t) => project.columns.get(t), project.functions);
  const finish: Parameters<typeof anatomyOf>[2] = (compiled) => previewQuery(project, compiled, [], NAMES);
  return anatomyOf({ file: project.files.get('mart/x.sql')!, query: query!, around }, NAMES, finish);
}

/** The steps, a line each: kind, label, what it reads by number, and why it is not counted. */
const steps = (sql: string): string[] => {
  const all = anatomy(sql).steps;
  const n = (id: string) => all.findIndex((s) => s.id === id) + 1;
  return all.slice(0, -1).map((s) => {
    const name = s.name !== undefined && s.kind !== 'source' && s.kind !== 'join' ? ` as ${s.name}` : '';
    const inputs = s.inputs.length ? ` < ${s.inputs.map(n).join(' ')}` : '';
    return `${s.kind}: ${s.label}${name}${inputs}${s.why === undefined ? '' : ` (${s.why})`}`;
  });
};

describe('the steps of a query', () => {
  test.each<[string, string, readonly string[]]>([
    ['a source', 'select call_no from landing.call', ['source: landing.call']],
    [
      'a join and a filter',
      'select call_no from landing.call c left join landing.berth b using (berth_code) where c.tonnage > 1 and b.length_m is null',
      [
        'source: landing.call c',
        'source: landing.berth b',
        'join: left join landing.berth b using (berth_code) < 1 2',
        'filter: where c.tonnage > 1 and b.length_m is null < 3',
      ],
    ],
    [
      'conditions over other queries are steps of their own',
      'select 1 as one from landing.call c where c.tonnage > 1 and c.berth_code not in (select berth_code from landing.berth) and c.tonnage < 9',
      [
        'source: landing.call c',
        'filter: where c.tonnage > 1 < 1',
        'filter: c.berth_code not in (select berth_code from landing.berth) < 2',
        'filter: where c.tonnage < 9 < 3',
      ],
    ],
    [
      'a comma joins by WHERE',
      'select c.call_no from landing.call c, landing.berth b where c.tonnage > 1 and c.berth_code = b.berth_code',
      [
        'source: landing.call c',
        'source: landing.berth b',
        'join: , landing.berth b where c.berth_code = b.berth_code < 1 2',
        'filter: where c.tonnage > 1 < 3',
      ],
    ],
    [
      'ON belongs to the last join that has none',
      'select 1 as one from landing.call a join landing.berth b join landing.call c on c.berth_code = b.berth_code on a.berth_code = b.berth_code',
      [
        'source: landing.call a',
        'source: landing.berth b',
        'source: landing.call c',
        'join: join landing.call c on c.berth_code = b.berth_code < 2 3',
        'join: join landing.berth b join landing.call c on c.berth_code = b.berth_code on a.ber… < 1 4',
      ],
    ],
    [
      'brackets around a join',
      'select 1 as one from (landing.call a cross join landing.berth b) left join landing.call c on left(c.call_no, 1) = left(a.call_no, 1)',
      [
        'source: landing.call a',
        'source: landing.berth b',
        'join: cross join landing.berth b < 1 2',
        'source: landing.call c',
        'join: left join landing.call c on left(c.call_no, 1) = left(a.call_no, 1) < 3 4',
      ],
    ],
    [
      'groups, their filter and HAVING',
      'select berth_code, count(*) filter (where tonnage > 5) as large from landing.call group by 1 having max(tonnage) > 1',
      [
        'source: landing.call',
        'filter: count(*) where tonnage > 5 < 1',
        'group: by 1 < 1',
        'filter: having max(tonnage) > 1 < 3',
      ],
    ],
    [
      'one group of all rows',
      'select max(tonnage) as most from landing.call',
      ['source: landing.call', 'group: all rows in one group < 1'],
    ],
    [
      'a common table expression is opened once',
      'with large as (select * from landing.call where tonnage > 5) select a.call_no from large a join large b using (call_no)',
      [
        'source: landing.call',
        'filter: where tonnage > 5 as large < 1',
        'source: large, as above < 2',
        'join: join large b using (call_no) < 2 3',
      ],
    ],
    [
      'a subquery is opened, one that reads its left is not',
      'select q.n as n from (select berth_code, count(*) as n from landing.call group by berth_code) q cross join lateral (select 1 as one where q.n > 1) l',
      [
        'source: landing.call',
        'group: by berth_code as q < 1',
        'join: cross join lateral (select 1 as one where q.n > 1) l < 2',
      ],
    ],
    [
      'arms that are put together',
      '(select berth_code from landing.call order by 1 limit 3) union all select berth_code from landing.berth union select berth_code from landing.call',
      [
        'source: landing.call',
        'limit: order by 1 limit 3 < 1',
        'source: landing.berth',
        'stack: union all < 2 3',
        'source: landing.call',
        'stack: union < 4 5',
      ],
    ],
    [
      'windows, sets among the columns and distinct rows',
      `select distinct on (berth_code) berth_code, unnest(array[1, 2]) as n, row_number() over w as r, sum(tonnage) over (partition by call_no, berth_code) as t from landing.call window w as (partition by berth_code order by call_no)`,
      [
        'source: landing.call',
        'window: partitions by berth_code < 1',
        'window: partitions by call_no, berth_code < 2',
        'expand: sets among the columns < 3',
        'group: one a berth_code < 4',
      ],
    ],
    [
      'a recursion is one step',
      'with recursive r as (select 1 as n union all select n + 1 from r where n < 3) select n from r',
      ['source: r, a recursion'],
    ],
    ['values', 'values (1), (2)', ['source: values (1), (2)']],
    ['no table at all', 'select 1 as one', ['source: one row']],
    [
      'what differs each time',
      'select call_no from landing.call where tonnage > random() limit 5',
      [
        'source: landing.call',
        'filter: where tonnage > random() < 1 (random() returns something else each time it is called)',
        'limit: limit 5 < 2 (random() returns something else each time it is called)',
      ],
    ],
    [
      'a word behind AS begins no clause',
      'select tonnage as "from", berth_code as where from landing.call',
      ['source: landing.call'],
    ],
  ])('%s', (_, sql, expected) => expect(steps(sql)).toEqual(expected));
});

describe('more than anybody can look through is one step', () => {
  const nested = (n: number, inner: string): string =>
    n === 0 ? inner : `select * from (${nested(n - 1, inner)}) q${n}`;
  test.each<[string, string]>([
    [
      'many items of FROM',
      `select 1 as one from ${Array.from({ length: 4000 }, (_, i) => `landing.call c${i}`).join(', ')}`,
    ],
    ['many arms', Array.from({ length: 400 }, () => 'select call_no from landing.call').join(' union ')],
    [
      'a long text in many others',
      nested(120, `select ${Array.from({ length: 8000 }, (_, i) => `1 as c${i}`).join(', ')}`),
    ],
  ])('%s', (_, sql) => expect(steps(sql)).toHaveLength(1));
});

test('ids survive an edit of another step', () => {
  const ids = (sql: string) => anatomy(sql).steps.map((s) => s.id);
  const before = ids('select 1 as one from landing.call c join landing.berth b using (berth_code) where c.tonnage > 1');
  const after = ids(
    'select 1 as one from landing.call c join landing.call x using (call_no) join landing.berth b on b.berth_code = c.berth_code where c.tonnage > 2',
  );
  expect(after).toEqual(expect.arrayContaining(before));
});

test('each step has the range of its author’s text', () => {
  const sql =
    'select é.call_no from landing.call é join landing.berth b on b.berth_code = é.berth_code where é.tonnage > 1';
  expect(anatomy(sql).steps.map((s) => sql.slice(s.start, s.end))).toEqual([
    'landing.call é',
    'landing.berth b',
    'join landing.berth b on b.berth_code = é.berth_code',
    'where é.tonnage > 1',
    sql,
  ]);
});

describe('the statements', () => {
  const sqlOf = (sql: string) => anatomy(sql).questions.map((q) => q.sql().text);
  test('of a join by keys', () =>
    expect(
      sqlOf(
        'select 1 as one from landing.call c left join landing.berth b on b.berth_code = c.berth_code and b.length_m > 3',
      ),
    ).toMatchSnapshot());
  test('of a join by something else', () =>
    expect(
      sqlOf('select 1 as one from landing.call c join landing.berth b on b.berth_id between 1 and c.tonnage'),
    ).toMatchSnapshot());
  test('of a filter and groups within a common table expression', () =>
    expect(
      sqlOf(
        'with t as (select * from landing.call) select berth_code as b, count(*) as n from t where tonnage > 1 and berth_code not in (select berth_code from landing.berth) group by b having count(*) > 1',
      ),
    ).toMatchSnapshot());
  test('lead back to the author’s text', () => {
    const sql = 'select call_no from landing.call where tonnage > 1';
    const { text, original } = anatomy(sql).steps[1]!.count!();
    expect(sql.slice(original(text.indexOf('tonnage')))).toBe('tonnage > 1');
  });
});

test('the checks of the contract are asked of the result', () => {
  const project = projectOf({
    'core/dim_berth.sql': `create table core.dim_berth (
      berth_key bigint options (role 'surrogate key') primary key,
      berth_code text not null,
      length_m numeric check (length_m > 0)
    ) with (load = merge, business_key = 'berth_code', advisory = 'dim_berth_berth_code_not_null');
    select berth_code, length_m from landing.berth;`,
  });
  const asked = resultChecks(project, 'core/dim_berth.sql', NAMES)!;
  expect(asked.checks).toEqual([
    { name: 'berth_code is never null', isAdvisory: true },
    { name: 'length_m > 0', isAdvisory: false },
  ]);
  expect(asked.sql).toMatchSnapshot();
  expect(resultChecks(project, 'staging/berth.sql', NAMES)).toBeUndefined();
});
