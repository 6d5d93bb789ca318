import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { projectOf } from '../../testing.js';
import type { Definition, Project } from '../../model/project.js';
import { boundNote } from '../append/bound-plan.js';
import { beforeStatementsOf } from '../../compile/before.js';
import { beforeProblem } from '../../resolve/rules/load/before.js';
import type { Names } from '../../compile/compile.js';
import { driftColumns, untypedDrift, withDrift } from '../../compile/drift.js';
import { productionEnvironment, type Place } from '../../model/place.js';
import { planLoad } from './plan.js';
import { type LoadPlan, type PlanContext } from './context.js';
import { loadProcedures, loadScript } from '../script/script.js';
import { standInColumns } from '../../keys/stand-ins.js';
import { rehash, rehashedColumns } from './hashes.js';
import { DEPENDENTS_SQL, OLD_SQL } from './swap.js';
import { targetOf } from '../../compile/target.js';
import { likeliest, misfitColumn, misfitQuery, rowsBetween, suspects, valueQueries } from '../../assist/trace.js';

/** Read once the parser is there. */
let p: Project;
beforeAll(async () => {
  await loadParser();
  p = project();
  expect(p.diagnostics.filter((d) => d.severity === 'error')).toEqual([]);
});

const placeOf = (name: string): Place => ({ schema: name.split('.')[0]!, name: name.split('.')[1]! });
const names: Names = { placeOf, functionsSchema: 'functions' };
const definition = (project: Project, name: string) => project.tables.get(name) as Definition;

const HISTORY = `create table core.dim_berth (
  berth_key bigint options (role 'surrogate key') primary key,
  code text options (was 'berth_code') not null,
  length_m numeric(8,1),
  mark uuid options (role 'row hash'),
  nth integer options (role 'version number'),
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to')
) with (load = history, business_key = 'code', effective_from = 'at');
select berth_code as code, length_m, timestamptz '2026-01-01' as at from landing.berth;`;
const FACT = `create table core.fact_call (call_no text primary key, berth_key bigint options (looked_up_by 'berth_code') references core.dim_berth (berth_key), berth_code text) with (load = merge, business_key = 'call_no');
select call_no, berth_code from landing.call;`;
const project = (files: Readonly<Record<string, string>> = {}) =>
  projectOf({ 'core/dim_berth.sql': HISTORY, 'core/fact_call.sql': FACT, ...files });

const plan = (of: Project, name: string, more: Partial<PlanContext> = {}): LoadPlan =>
  planLoad(
    {
      project: of,
      environment: productionEnvironment(['reader']),
      placeOf,
      time: '2026-03-01 10:00:00+00',
      run: '7',
      ...more,
    },
    definition(of, name),
  );
const before = ({ session, build }: LoadPlan) => [...session, ...build].map((s) => `${s.sql};`).join('\n');

describe('a load goes on from rows of another contract', () => {
  test('keys renamed, types widened, what the load fills given to old rows', () =>
    expect(
      before(
        plan(project(), 'core.dim_berth', {
          base: {
            kind: 'copy',
            from: placeOf('core.old_berth'),
            columns: ['berth_key', 'berth_code', 'length_m', 'valid_from', 'valid_to'],
            extras: [{ name: 'kept', type: 'text' }],
            remembers: [
              {
                what: 'keys',
                columns: [
                  { name: 'berth_code', type: 'text' },
                  { name: 'number$', type: 'bigint' },
                ],
              },
              {
                what: 'events',
                columns: [
                  { name: 'berth_code', type: 'text' },
                  { name: 'length_m', type: 'numeric(6,1)' },
                  { name: 'gone', type: 'text' },
                  { name: 'at', type: 'timestamptz' },
                ],
              },
            ],

            isRehashed: true,
          },
        }),
      ),
    ).toMatchInlineSnapshot(`
     "set local timezone = 'UTC';
     set local search_path = pg_catalog, extensions;
     select set_config('load.time', '2026-03-01 10:00:00+00', true);
     select set_config('load.run', '7', true);
     drop table if exists "core"."dim_berth~keys";
     drop table if exists "core"."dim_berth~durable";
     drop table if exists "core"."dim_berth~events";
     create table "core"."dim_berth~events" (like "core"."old_berth~events" including all);
     insert into "core"."dim_berth~events" select * from "core"."old_berth~events";
     drop table if exists "core"."dim_berth~inferred";
     drop table if exists "core"."dim_berth~asked";
     drop table if exists "core"."dim_berth~last";
     create table if not exists "core"."dim_berth~last" (map text primary key, number bigint not null);
     insert into "core"."dim_berth~last" as l (map, number)
     select 'keys', given from (select max(number$) as given from "core"."old_berth~keys") as m where given is not null
     on conflict (map) do update set number = excluded.number where l.number < excluded.number;
     alter table "core"."dim_berth~events" rename column "berth_code" to "renamed$0";
     alter table "core"."dim_berth~events" rename column "renamed$0" to "code";
     alter table "core"."dim_berth~events" alter column "length_m" type numeric(8,1) using cast("length_m" as numeric(8,1));
     create table "core~next"."dim_berth" as
     select cast("berth_key" as bigint) as "berth_key",
            cast("berth_code" as text) as "code",
            cast("length_m" as numeric(8,1)) as "length_m",
            cast(null as uuid) as "mark",
            cast(null as integer) as "nth",
            cast("valid_from" as timestamptz) as "valid_from",
            cast("valid_to" as timestamptz) as "valid_to",
            "kept"
     from "core"."old_berth";
     update "core~next"."dim_berth" as t set "mark" = cast(md5(coalesce(length(trim_scale(t."length_m")::text) || ':' || trim_scale(t."length_m")::text, '-')) as uuid);
     update "core~next"."dim_berth" as t
     set "mark" = g."mark", "nth" = g."nth"
     from (select t.ctid as row$, cast(md5(coalesce(length(trim_scale(t."length_m")::text) || ':' || trim_scale(t."length_m")::text, '-')) as uuid) as "mark", cast(row_number() over (partition by t."code" order by t."valid_from") as integer) as "nth" from "core~next"."dim_berth" as t
     where t."berth_key" <> 0) as g
     where g.row$ = t.ctid;
     update "core~next"."dim_berth" as t
     set "mark" = cast(md5(coalesce(length(trim_scale(t."length_m")::text) || ':' || trim_scale(t."length_m")::text, '-')) as uuid), "nth" = 1
     where t."berth_key" = 0;"
    `));
  test('a table that starts over keeps its numbers', () =>
    expect(
      before(
        plan(project(), 'core.dim_berth', {
          base: {
            kind: 'none',
            there: [
              {
                what: 'keys',
                columns: [
                  { name: 'code', type: 'text' },
                  { name: 'number$', type: 'bigint' },
                ],
              },
            ],

            formerly: placeOf('core.old_berth'),
          },
        }),
      ),
    ).toMatchInlineSnapshot(`
     "set local timezone = 'UTC';
     set local search_path = pg_catalog, extensions;
     select set_config('load.time', '2026-03-01 10:00:00+00', true);
     select set_config('load.run', '7', true);
     drop table if exists "core"."dim_berth~keys";
     drop table if exists "core"."dim_berth~durable";
     drop table if exists "core"."dim_berth~events";
     drop table if exists "core"."dim_berth~inferred";
     drop table if exists "core"."dim_berth~asked";
     drop table if exists "core"."dim_berth~last";
     create table if not exists "core"."dim_berth~last" (map text primary key, number bigint not null);
     insert into "core"."dim_berth~last" as l (map, number)
     select 'keys', given from (select max(number$) as given from "core"."old_berth~keys") as m where given is not null
     on conflict (map) do update set number = excluded.number where l.number < excluded.number;
     create table "core~next"."dim_berth" (
       "berth_key" bigint,
       "code" text,
       "length_m" numeric(8,1),
       "mark" uuid,
       "nth" integer,
       "valid_from" timestamptz,
       "valid_to" timestamptz
     );"
    `));
  test('in its place nothing is copied', () =>
    expect(before(plan(project(), 'core.dim_berth', { base: { kind: 'in place' } }))).toMatchInlineSnapshot(`
     "set local timezone = 'UTC';
     set local search_path = pg_catalog, extensions;
     select set_config('load.time', '2026-03-01 10:00:00+00', true);
     select set_config('load.run', '7', true);"
    `));
});

describe('columns that the contract lacks', () => {
  const of = (query: string) =>
    project({
      'core/t.sql': `create table core.t (call_no text not null) with (load = merge, business_key = 'call_no', drift = add);\n${query};`,
    });
  test('are adopted with their types', () => {
    const p = of('select call_no, tonnage from landing.call');
    expect(driftColumns(p, definition(p, 'core.t')).map(({ name, type }) => [name, type])).toEqual([
      ['tonnage', 'numeric(12,2)'],
    ]);
    expect(withDrift(p, definition(p, 'core.t')).contract!.columns.map((c) => [c.name, c.type])).toEqual([
      ['call_no', 'text'],
      ['tonnage', 'numeric(12,2)'],
    ]);
  });
  test('whose types only the database knows are asked for', () => {
    const p = of('select call_no, functions.unheard(tonnage) as x from landing.call');
    expect(untypedDrift(p, definition(p, 'core.t'))).toEqual(['x']);
    expect(() => withDrift(p, definition(p, 'core.t'))).toThrow('core.t: the type of x is not known');
    expect(withDrift(p, definition(p, 'core.t'), new Map([['x', 'money']])).contract!.columns.at(-1)).toMatchObject({
      name: 'x',
      type: 'money',
    });
  });
  test('are left where nothing is said of drift', () =>
    expect(driftColumns(project(), definition(project(), 'core.fact_call'))).toEqual([]));
});

describe('statements before a load', () => {
  test.each<[string, string | undefined]>([
    ['set enable_hashjoin = off; analyze landing.call', undefined],
    ['delete from core.t where true', undefined],
    ['vacuum core.t', 'vacuum cannot run inside a transaction'],
    ['drop table core.t', 'only set, select, analyze, lock, insert, update and delete are allowed there'],
    ['analyze landing.berth', 'landing.berth is not read by the query, so it may not be there yet'],
    ['analyze berth', 'berth lacks its layer'],
    ['select', undefined],
    ['select frm', undefined],
    ['analyze (', 'syntax error at end of input'],
  ])('%s', (text, problem) => expect(beforeProblem(text, 'core.t', ['landing.call'], { keeps: true })).toBe(problem));
  test('are compiled like queries, and settings end with the transaction', () =>
    expect(
      beforeStatementsOf("set work_mem = '64MB'; analyze staging.call", {
        ...names,
        placeOf: (n) => ({ schema: `w_${n.split('.')[0]}`, name: n.split('.')[1]! }),
      }),
    ).toEqual(["set local work_mem = '64MB'", 'analyze "w_staging"."call"']));
});

describe('where the watermark’s bound takes effect', () => {
  const explained = (node: object) => JSON.stringify([{ Plan: { 'Node Type': 'Append', Plans: [node] } }]);
  const bound = "(at >= (current_setting('load.bound'::text))::timestamp with time zone)";
  test.each<[string, object, string]>([
    [
      'an index',
      { 'Node Type': 'Index Scan', 'Relation Name': 'call', 'Index Cond': bound },
      'the watermark’s bound reaches an index of call',
    ],
    [
      'a scan',
      { 'Node Type': 'Seq Scan', 'Relation Name': 'call', Filter: bound },
      'the watermark’s bound reaches the scan of call, which has no index for it',
    ],
    [
      'neither',
      { 'Node Type': 'WindowAgg', Filter: bound, Plans: [{ 'Node Type': 'Seq Scan', 'Relation Name': 'call' }] },
      'the watermark’s bound does not reach the input: all of it is read and computed first (WindowAgg). Keep the watermark free of aggregates and windows in the query.',
    ],
  ])('%s', (_, node, note) => expect(boundNote(explained(node))).toBe(note));
});

describe('an error of rows is traced', () => {
  test('to values that do not fit the contract', () => {
    expect(misfitQuery(p, definition(p, 'core.dim_berth'), names)).toMatchInlineSnapshot(`
     "select * from (
       select concat_ws(', ', case when not pg_temp.fits(q."length_m"::text, 'numeric(8,1)') then 'length_m: no numeric(8,1)' end) as does_not_fit, q.*
       from (
     select berth_code as code, length_m, timestamptz '2026-01-01' as at from "landing"."berth"
     ) as q
     ) as held
     where does_not_fit <> ''
     limit 50"
    `);
    expect(misfitQuery(p, definition(p, 'staging.call'), names)).toBeUndefined();
    expect(misfitColumn(definition(p, 'core.dim_berth'), 'length_m: no numeric(8,1), x')?.name).toBe('length_m');
  });
  test('to rows that hold a value, in the tables that are read through views', () =>
    expect(valueQueries(p, definition(p, 'core.fact_call'), " B'1 ", names)).toMatchInlineSnapshot(`
     [
       {
         "sql": "select * from "landing"."call" as t where 'b''1' in (lower(trim(t."call_no"::text)), lower(trim(t."berth_code"::text)), lower(trim(t."tonnage"::text)), lower(trim(t."arrived_at"::text))) limit 50",
         "table": "landing.call",
       },
     ]
    `));
  test('to the queries in which it may arise, views first', () => {
    const viewed = projectOf();
    expect(
      suspects(viewed, definition(viewed, 'core.fact_call'), names).map((s) => [
        s.of.path,
        s.inputs.map((i) => i.table),
      ]),
    ).toEqual([
      ['staging/berth.sql', ['landing.berth']],
      ['staging/call.sql', ['landing.call']],
      ['core/fact_call.sql', ['landing.call', 'landing.berth']],
    ]);
  });
  test('to a range of rows by their places', () =>
    expect(rowsBetween(placeOf('landing.call'), 5, 2 * 512 + 7)).toBe(
      `select * from "landing"."call" where ctid >= '(0,5)'::tid and ctid < '(2,7)'::tid`,
    ));
});

test('what a load fills is stood for in previews of tables that are not built', () => {
  for (const [name, at] of [
    ['core.dim_berth', undefined],
    ['core.fact_call', undefined],
  ] as const) {
    const { values, joins, unknownMember } = standInColumns(p, definition(p, name), { ...names, placeOf: () => at });
    expect({ name, values: [...values], joins, unknownMember }).toMatchSnapshot();
  }
});

describe('loads that are exported', () => {
  const script = () => ({
    title: 'core.dim_berth and core.fact_call',
    needs: ['landing.berth (berth_code text, length_m numeric)'],
    tables: [
      { plan: plan(p, 'core.dim_berth', { base: { kind: 'none' } }) },
      {
        plan: planLoad(
          { project: p, environment: productionEnvironment(['reader']), placeOf },
          p.tables.get('reference.flag') as never,
        ),
        rows: {
          header: ['flag_code', 'flag_name'],
          values: [
            ['MR', "Marra'vel"],
            ['OS', null],
          ],
        },
      },
    ],
    functions: ['create or replace function functions.f() returns integer language sql return 1'],
    functionsSchema: 'functions',
  });
  test.each([
    ['script', loadScript],
    ['procedures', loadProcedures],
  ])('as a %s', (_, write) => expect(write(script())).toMatchSnapshot());
});

describe('hashes are remade where equal values had different ones', () => {
  const hashed = (method: string) =>
    projectOf({
      'core/t.sql': `create table core.t (id bigint options (role 'surrogate key') primary key, n numeric not null, x jsonb, mark uuid options (role 'row hash')) with (load = merge, business_key = 'n'${method});
select length_m as n, null::jsonb as x from landing.berth;`,
    });
  test.each([
    ['with hash keys', ', key_method = hash', ['id', 'mark']],
    ['with numbers', '', ['mark']],
  ])('%s', (_, method, columns) => {
    const of = hashed(method);
    const target = targetOf(of, definition(of, 'core.t'));
    expect(rehashedColumns(target)).toEqual(columns);
    expect(rehash(target, placeOf('core.t'))).toMatchSnapshot();
  });
  test('a table of texts keeps its own', () => {
    const of = projectOf({
      'core/t.sql':
        "create table core.t (id bigint options (role 'surrogate key') primary key, n text not null) with (load = merge, business_key = 'n', key_method = hash);\nselect berth_code as n from landing.berth;",
    });
    const target = targetOf(of, definition(of, 'core.t'));
    expect([rehashedColumns(target), rehash(target, placeOf('core.t'))]).toEqual([[], []]);
  });
});

test('what a swap asks of the catalog', () => expect([OLD_SQL, DEPENDENTS_SQL]).toMatchSnapshot());

describe('plans of other tables', () => {
  const of = (sql: string, files: Readonly<Record<string, string>> = {}) => {
    const read = projectOf({ ...files, 'core/t.sql': sql });
    expect(read.diagnostics.filter((d) => d.severity === 'error')).toEqual([]);
    const made = plan(read, 'core.t');
    const author = made.build.find((b) => 'author' in b && b.author)?.author;
    return { text: before(made), counts: made.countSql, author, made };
  };
  test('a check that calls a function of the project', () =>
    expect(
      of(
        'create table core.t (a text, check (functions.sound(a))) with (load = rebuild);\nselect berth_code as a from landing.berth;',
        {
          'functions/sound.sql':
            'create function functions.sound(a text) returns boolean language sql immutable return a is not null;',
        },
      ).counts,
    ).toMatchInlineSnapshot(`
     "select count(*) as total,
            count(*) filter (where ("functions"."sound"(a)
     ) is false) as c0
     from "core~next"."t" as "t""
    `));
  test('schemas of the system are left as they are', () =>
    expect(
      of(
        'create table core.t (n bigint) with (load = rebuild);\nselect count(*) as n from information_schema.tables, pg_catalog.pg_class;',
      ).text,
    ).toContain('information_schema.tables, pg_catalog.pg_class'));
  test('an error of the statement leads back to the author’s text', () => {
    const sql = 'create table core.t (n bigint) with (load = rebuild);\nselect count(*) as n from landing.berth;';
    const { author, made } = of(sql);
    const build = made.build.find((b) => 'author' in b && b.author)!;
    const inText = build.sql.indexOf('count(*)');
    expect([author!.path, sql.slice(author!.original(inText))]).toEqual([
      'core/t.sql',
      'count(*) as n from landing.berth;',
    ]);
  });
});

test('inputs that a part names most come first', () => {
  const read = projectOf();
  const fact = definition(read, 'core.fact_call');
  const [, , own] = suspects(read, fact, names);
  const text = read.files.get('core/fact_call.sql')!.text;
  const at = text.indexOf('b.length_m');
  expect(likeliest(read, own!, { start: at, end: at + 10 }).map((i) => i.table)[0]).toBe('landing.berth');
});
