import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { inline } from './inline.js';
import { lift, type Lift } from './lift.js';

beforeAll(loadParser);

const lifted = (sql: string, step: string, more: Partial<Lift> = {}): string[] => {
  const project = projectOf({ 'mart/x.sql': sql });
  const result = lift(project, { table: 'mart.x', step, as: 'staging.lifted', kind: 'view', ...more });
  return 'obstacle' in result
    ? [result.obstacle]
    : [...result.files.map((f) => f.after ?? ''), ...(result.note ? [result.note] : [])];
};

describe('a step becomes a definition', () => {
  test('a common table expression, with those before it that it reads', () =>
    expect(
      lifted(
        `with calls as (
  select * from landing.call
), large as (
  select call_no,
         tonnage
  from calls
  where tonnage > 5
)
select l.call_no, calls.berth_code from large l join calls using (call_no)`,
        'large > filter',
      ),
    ).toMatchInlineSnapshot(`
     [
       "with calls as (
       select * from landing.call
     )
     select call_no,
            tonnage
     from calls
     where tonnage > 5;
     ",
       "with calls as (
       select * from landing.call
     )
     select l.call_no, calls.berth_code from staging.lifted l join calls using (call_no)",
     ]
    `));
  test('the only one takes WITH along', () =>
    expect(lifted('with a as (select call_no from landing.call) select call_no from a', 'a > source landing.call'))
      .toMatchInlineSnapshot(`
     [
       "select call_no from landing.call;
     ",
       "select call_no from staging.lifted as a",
     ]
    `));
  test('a subquery', () =>
    expect(
      lifted(
        'select c.call_no, n.calls from landing.call c join (select berth_code, count(*) as calls from landing.call group by 1) as n using (berth_code)',
        'n > group',
      ),
    ).toMatchInlineSnapshot(`
     [
       "select berth_code, count(*) as calls from landing.call group by 1;
     ",
       "select c.call_no, n.calls from landing.call c join staging.lifted as n using (berth_code)",
     ]
    `));
  test('a join, with the columns that the query uses, repeated names with their table’s', () =>
    expect(
      lifted(
        'select c.call_no, b.berth_code, c.berth_code as written, sum(d.tonnage) as t from landing.call c left join landing.berth b on b.berth_code = c.berth_code join landing.call d on d.call_no = c.call_no where b.length_m > 3 group by 1, 2, 3',
        'join landing.berth',
      ),
    ).toMatchInlineSnapshot(`
     [
       "select c.call_no,
            b.berth_code,
            c.berth_code as c_berth_code,
            b.length_m
     from landing.call c left join landing.berth b on b.berth_code = c.berth_code;
     ",
       "select lifted.call_no, lifted.berth_code, lifted.c_berth_code as written, sum(d.tonnage) as t from staging.lifted join landing.call d on d.call_no = lifted.call_no where lifted.length_m > 3 group by 1, 2, 3",
     ]
    `));
  test('a join by USING of a table with itself', () =>
    expect(
      lifted(
        'select a.call_no, berth_code from landing.call a join landing.call b using (call_no, berth_code)',
        'join landing.call',
      ),
    ).toMatchInlineSnapshot(`
     [
       "select a.call_no,
            berth_code
     from landing.call a join landing.call b using (call_no, berth_code);
     ",
       "select lifted.call_no, lifted.berth_code from staging.lifted",
     ]
    `));
  test('rows behind WHERE, as a table', () =>
    expect(
      lifted('select berth_code, call_no as no from landing.call where tonnage > 1 order by tonnage', 'filter', {
        kind: 'table',
      }),
    ).toMatchInlineSnapshot(`
     [
       "create table staging.lifted as
     select call.berth_code,
            call.call_no,
            call.tonnage
     from landing.call where tonnage > 1;
     ",
       "select lifted.berth_code, lifted.call_no as no from staging.lifted order by lifted.tonnage",
     ]
    `));
  test.each<[string, string, string, Partial<Lift>, string]>([
    [
      'the whole query',
      'select berth_code from landing.call',
      'result',
      {},
      'only a join, a filter, a subquery or a common table expression can be lifted',
    ],
    [
      'a query that takes all columns',
      'select * from landing.call where tonnage > 1',
      'filter',
      {},
      'nothing of the query uses its columns by name: write them out instead of *',
    ],
    [
      'a star beside a name',
      'select c.*, c.tonnage as t from landing.call c where c.tonnage > 1',
      'filter',
      {},
      'mart/x.sql would have a problem: c is not a table in this query',
    ],
    [
      'a name that is taken',
      'select berth_code from landing.call where tonnage > 1',
      'filter',
      { as: 'staging.call' },
      'there is a table staging.call already',
    ],
    [
      'no layer',
      'select berth_code from landing.call where tonnage > 1',
      'filter',
      { as: 'nowhere.x' },
      'there is no layer nowhere',
    ],
    [
      'no name',
      'select berth_code from landing.call where tonnage > 1',
      'filter',
      { as: 'x' },
      "x is not a table's name: write layer.name, in small letters, digits and _",
    ],
  ])('but not %s', (_, sql, step, more, obstacle) => expect(lifted(sql, step, more)).toEqual([obstacle]));
});

describe('a view goes into its one reader', () => {
  const inlined = (view: string, files: Readonly<Record<string, string>>): string[] => {
    const result = inline(projectOf(files), view);
    return 'obstacle' in result
      ? [result.obstacle]
      : [...result.files.map((f) => f.after ?? `${f.path} goes`), ...result.losses];
  };
  test('as a common table expression, before others', () =>
    expect(
      inlined('staging.one', {
        'staging/one.sql': 'select call_no, tonnage from landing.call;',
        'mart/x.sql': 'with a as (select 1 as n) select one.call_no, a.n from staging.one, a',
      }),
    ).toMatchInlineSnapshot(`
     [
       "with one as (
     select call_no, tonnage from landing.call
     ), a as (select 1 as n) select one.call_no, a.n from one, a",
       "staging/one.sql goes",
     ]
    `));
  test('with its casts; what it says beside its query is lost', () =>
    expect(
      inlined('staging.one', {
        'staging/one.sql': `create table staging.one (
  call_no text not null,
  tonnage numeric(8,1) check (tonnage > 0)
) with (load = view);
comment on table staging.one is 'Calls.';
select call_no, tonnage from landing.call;
grant select on staging.one to public;`,
        'mart/x.sql': 'select call_no from staging.one',
      }),
    ).toMatchInlineSnapshot(`
     [
       "with one as (
     select cast(q.call_no as text) as call_no,
            cast(q.tonnage as numeric(8,1)) as tonnage
     from (
     select call_no, tonnage from landing.call
     ) as q
     )
     select call_no from one",
       "staging/one.sql goes",
       "the check one_call_no_not_null",
       "the check one_tonnage_check",
       "a grant: grant select on staging.one to public",
       "the description of the view",
     ]
    `));
  test.each<[string, Readonly<Record<string, string>>, string]>([
    ['core.fact_call', {}, 'core.fact_call is not a view'],
    ['staging.none', { 'staging/none.sql': 'select 1 as one' }, 'nothing reads staging.none'],
    [
      'staging.call',
      { 'checks/c.sql': 'create view checks.c as select call_no from staging.call where tonnage < 0' },
      'staging.call is read in 2 places: core/fact_call.sql, checks/c.sql',
    ],
  ])('%s', (view, files, expected) => expect(inlined(view, files)).toEqual([expected]));
});
