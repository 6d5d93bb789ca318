import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { projectOf } from '../../testing.js';
import type { Definition, Project, ReferenceTable, SourceTable } from '../../model/project.js';
import { fingerprints } from '../../graph/fingerprint.js';
import { compileFunction, compileText, type Names } from '../../compile/compile.js';
import { definitionQuery, previewQuery } from '../../keys/definition-query.js';
import { settingsOf } from '../../model/settings.js';
import { boundSql, planIntake } from '../../intake/intake.js';
import { planLoad } from './plan.js';
import {
  stagedSchema,
  productionEnvironment,
  workspaceEnvironment,
  workspacePrefix,
  type Place,
} from '../../model/place.js';
import { keptFromOld, planSwap, type Dependent, type OldRelation } from './swap.js';

beforeAll(loadParser);

const place = (name: string): Place => ({ schema: name.split('.')[0]!, name: name.split('.')[1]! });
const definition = (project: Project, name: string) => project.tables.get(name) as Definition;
const production = productionEnvironment(['reader']);
const workspace = workspaceEnvironment('w_dues', []);

describe('places', () => {
  test.each<[string, string, string]>([
    ['a workspace’s layer', workspace.schemaOf('core'), 'w_dues_core'],
    ['production’s layer', production.schemaOf('core'), 'core'],
    ['beside', stagedSchema('core'), 'core~next'],
  ])('%s', (_, schema, expected) => expect(schema).toBe(expected));
  test('a workspace’s prefix is sanitised and unique', () => {
    expect(workspacePrefix('Bérth dues!', () => false)).toBe('w_be_rth_dues');
    expect(workspacePrefix('dues', (p) => p === 'w_dues')).toBe('w_dues_2');
  });
  test('long names stay apart from one another’s layers within 63 bytes', () => {
    const long = workspaceEnvironment(`w_${'x'.repeat(70)}`, []);
    expect(long.schemaOf('core')).toHaveLength(63);
    expect(long.schemaOf('core')).not.toBe(long.schemaOf('mart'));
  });
});

describe('compiled text is the author’s, with names replaced', () => {
  const compile = (sql: string, names: Partial<Names> = {}) => {
    const project = projectOf({
      'core/x.sql': sql,
      'functions/clean.sql':
        'create function functions.clean(t text) returns text language sql immutable return trim(t);',
    });
    const table = definition(project, 'core.x');
    return compileText(project.files.get('core/x.sql')!, table.query!, table.query!, {
      placeOf: (t) => ({ schema: `w_${t.split('.')[0]}`, name: t.split('.')[1]! }),
      functionsSchema: 'w_functions',
      ...names,
    });
  };
  test.each<[string, string, string]>([
    [
      'comments and layout stay',
      'select a.x -- why\nfrom  staging.berth  a',
      'select a.x -- why\nfrom  "w_staging"."berth"  a',
    ],
    ['quoted names', 'select 1 as a from "staging"."berth"', 'select 1 as a from "w_staging"."berth"'],
    [
      'three parts',
      'select staging.berth.length_m from staging.berth',
      'select "w_staging"."berth".length_m from "w_staging"."berth"',
    ],
    [
      'a common table expression hides',
      'with berth as (select 1 as a) select a from berth',
      'with berth as (select 1 as a) select a from berth',
    ],
    [
      'names in strings are left',
      "select 'staging.berth' as a from staging.berth",
      `select 'staging.berth' as a from "w_staging"."berth"`,
    ],
    [
      'functions',
      'select functions.clean(b.berth_code) as a from staging.berth b',
      'select "w_functions"."clean"(b.berth_code) as a from "w_staging"."berth" b',
    ],
    [
      'behind letters of several bytes',
      "select 'ünïcødé' as é, b.length_m from staging.berth b",
      `select 'ünïcødé' as é, b.length_m from "w_staging"."berth" b`,
    ],
  ])('%s', (_, sql, expected) => expect(compile(sql).text).toBe(expected));
  test('parameters become literals where values are given', () => {
    const sql = "select current_setting('param.region') as r from staging.berth";
    expect(compile(sql, { settings: new Map([['param.region', "no'rth"]]) }).text).toContain(
      `select 'no''rth'::text as r`,
    );
    expect(compile(sql).text).toContain("current_setting('param.region')");
  });
  test('every offset leads back to the author’s', () => {
    const sql = 'select b.length_m, b.nothing from staging.berth b';
    const { text, original } = compile(sql);
    for (const word of ['length_m', 'nothing', ' b.nothing', 'from'])
      expect(original(text.indexOf(word))).toBe(sql.indexOf(word));
  });
});

describe('previews before anything is built', () => {
  const project = () =>
    projectOf({
      'mart/m.sql': 'select call_no from core.fact_call',
      'core/fact_call.sql':
        'create table core.fact_call (call_no text primary key, tonnage numeric(8,1)); select c.call_no, c.tonnage from staging.call c',
    });
  const names: Names = {
    placeOf: (t) => (t.startsWith('landing') ? place(t) : undefined),
    functionsSchema: 'functions',
  };
  test('unbuilt tables are put in, each before what reads it, with the contract’s casts', () => {
    const p = project();
    const main = definitionQuery(p, definition(p, 'mart.m'), names);
    const { text, original } = previewQuery(p, main, p.reads.get('mart.m')!, names);
    expect(text).toMatchInlineSnapshot(`
      "with "staging.call" as not materialized (
      select c.call_no, c.berth_code, c.tonnage from "landing"."call" c
      ),
      "core.fact_call" as not materialized (
      select cast(q."call_no" as text) as "call_no",
             cast(q."tonnage" as numeric(8,1)) as "tonnage"
      from (
      select c.call_no, c.tonnage from "staging.call" c
      ) as q
      )
      select * from (
      select call_no from "core.fact_call" as "fact_call"
      ) as preview"
    `);
    expect(original(text.lastIndexOf('call_no'))).toBe('select call_no'.indexOf('call_no'));
  });
});

describe('load plans', () => {
  const sql = `set work_mem = '64MB';
create table core.x (b text not null, a int primary key, c text references reference.flag (flag_code)) with (advisory = 'x_b_not_null', fillfactor = 70);
comment on table core.x is 'It''s x.';
select 1 as a, current_setting('param.region') as b, 'MR' as c;
create index on core.x (b);
grant select on core.x to reporting;`;
  const plan = (environment = production) => {
    const project = projectOf({ 'core/x.sql': sql });
    return planLoad(
      { project, environment, placeOf: place, parameters: new Map([['region', 'south']]) },
      definition(project, 'core.x'),
    );
  };
  test('a rebuild is made beside, in the contract’s order, checked, and finished there', () => {
    const { session, build, finish, countSql, target, staged } = plan();
    expect({ target, staged }).toEqual({ target: place('core.x'), staged: { schema: 'core~next', name: 'x' } });
    expect([...session, ...build].map((s) => s.sql).join(';\n')).toMatchInlineSnapshot(`
      "set local timezone = 'UTC';
      set local search_path = pg_catalog, extensions;
      select set_config('param.region', 'south', true);
      set local parallel_tuple_cost = 0;
      set local work_mem = '64MB';
      create table "core~next"."x" with (fillfactor = '70') as
      select cast(q."b" as text) as "b",
             cast(q."a" as integer) as "a",
             cast(q."c" as text) as "c"
      from (
      select 1 as a, current_setting('param.region') as b, 'MR' as c
      ) as q;
      set local parallel_tuple_cost to default"
    `);
    expect(countSql).toMatchInlineSnapshot(`
      "select count(*) as total,
             count(*) filter (where "b" is null) as c0,
             count(*) filter (where "a" is null) + case when (select count(distinct "a") < count("a") from "core~next"."x") then (select coalesce(sum(n), 0) from (select count(*) as n from "core~next"."x" where "a" is not null group by "a" having count(*) > 1) as repeated) else 0 end as c1,
             (select count(*) from "core~next"."x" as "x" where "x"."c" is not null and not exists (select from "reference"."flag" as known where known."flag_code" = "x"."c")) as c2
      from "core~next"."x" as "x""
    `);
    // The advisory constraint is checked only; so is the reference.
    expect(finish.map((s) => s.sql).join(';\n')).toMatchInlineSnapshot(`
      "alter table "core~next"."x"
        add constraint "x_pkey" primary key ("a");
      create index on "core~next"."x" (b);
      grant select on "core~next"."x" to reporting;
      analyze "core~next"."x";
      comment on table "core~next"."x" is 'It''s x.';
      grant select on "core~next"."x" to "reader""
    `);
  });
  test('the author’s grants are for production only', () =>
    expect(plan(workspace).finish.some((s) => s.sql.includes('reporting'))).toBe(false));
  test('a view has its parameters as literals', () => {
    const project = projectOf({ 'staging/v.sql': "select current_setting('param.region') as r from landing.berth" });
    const { build, relation } = planLoad(
      { project, environment: production, placeOf: place },
      definition(project, 'staging.v'),
    );
    expect(relation).toBe('view');
    expect(build[0]!.sql).toBe(`create view "staging~next"."v" as\nselect 'north'::text as r from "landing"."berth"`);
  });
  test('a reference table is filled by COPY in the header’s order', () => {
    const project = projectOf({
      'reference/flag.sql': 'create table reference.flag (flag_name text, flag_code text primary key)',
    });
    const { build, copySql } = planLoad(
      { project, environment: production, placeOf: place },
      project.tables.get('reference.flag') as ReferenceTable,
    );
    expect(build[0]!.sql).toContain('"flag_name" text,\n  "flag_code" text');
    expect(copySql).toBe(
      'copy "reference~next"."flag" ("flag_code", "flag_name") from stdin (format csv, header true)',
    );
  });
  test('a function goes into the environment’s schema', () => {
    const project = projectOf({
      'functions/f.sql':
        'create function functions.f() returns bigint language sql stable begin atomic select count(*) from landing.berth; end;',
    });
    expect(
      compileFunction(project, project.functions.get('f')!, {
        placeOf: (t) => ({ ...place(t), schema: 'w_landing' }),
        functionsSchema: 'w_functions',
      }),
    ).toBe(
      'create or replace function "w_functions"."f"() returns bigint language sql stable begin atomic select count(*) from "w_landing"."berth"; end',
    );
  });
});

describe('swaps', () => {
  const old: OldRelation = {
    schema: 'core',
    name: 't',
    relkind: 'r',
    owner: 'p',
    ours: true,
    grants: [{ grantee: 'desk', privilege: 'SELECT', grantable: true, column: 'a' }],
    comment: 'by hand',
    column_comments: [{ column: 'a', comment: 'A.' }],
    indexes: [],
    attached: [],
    columns: [{ name: 'a', type: 'integer' }],
  };
  const view: Dependent = {
    kind: 'view',
    schema: 'desk',
    name: 'v',
    identity: '',
    depth: 1,
    owner: 'p',
    ours: true,
    definition: ' SELECT a FROM core.t;',
    options: ['security_barrier=true'],
    grants: [],
    comment: "it's",
    column_comments: [],
    indexes: [],
  };
  const item = { target: place('core.t'), staged: { schema: 'core~next', name: 't' }, relation: 'table' as const };
  test('dependents are dropped, the new one moved in, grants and dependents made again', () => {
    expect(planSwap([item], [old], [view]).statements).toEqual([
      'drop view "desk"."v"',
      'drop table "core"."t"',
      'alter table "core~next"."t" set schema "core"',
      'grant SELECT ("a") on table "core"."t" to "desk" with grant option',
      'create view "desk"."v" with (security_barrier=true) as\n SELECT a FROM core.t',
      'alter view "desk"."v" owner to "p"',
      `comment on view "desk"."v" is 'it''s'`,
    ]);
  });
  test('a dependent of someone else stops it, by name', () =>
    expect(planSwap([item], [old], [{ ...view, ours: false }]).blockedBy?.map((d) => d.name)).toEqual(['v']));
  test('hand-made indexes and comments are kept, unless their column is gone', () => {
    const index = (name: string, column: string) => ({
      name,
      definition: `CREATE INDEX ${name} ON core.t USING btree (${column})`,
    });
    const fresh = { columns: ['a'], indexes: ['declared'], commented: [], comment: false };
    const before = {
      ...old,
      columns: [...old.columns, { name: 'gone', type: 'text' }],
      indexes: [index('declared', 'a'), index('by_hand', 'a'), index('lost', 'gone')],
    };
    expect(keptFromOld(item, before, fresh)).toEqual([
      'CREATE INDEX by_hand ON "core~next"."t" USING btree (a)',
      `comment on table "core~next"."t" is 'by hand'`,
      `comment on column "core~next"."t"."a" is 'A.'`,
    ]);
  });
});

describe('fingerprints', () => {
  const of = (files: Record<string, string>, table = 'core.fact_call') => fingerprints(projectOf(files)).get(table);
  const same = () => of({});
  test.each<[string, Record<string, string>, boolean]>([
    [
      'a comment',
      { 'staging/berth.sql': '/* other */ select berth_code,\n length_m::numeric(6,1) as length_m from landing.berth' },
      true,
    ],
    [
      'documentation',
      {
        'core/fact_call.sql':
          "create table core.fact_call as\nselect c.call_no, b.length_m, c.tonnage from staging.call c join staging.berth b using (berth_code); comment on table core.fact_call is 'x'",
      },
      true,
    ],
    [
      'a constant upstream',
      {
        'staging/berth.sql':
          'select berth_code, length_m::numeric(6,1) as length_m from landing.berth where length_m > 1',
      },
      false,
    ],
    ['another table', { 'reference/flag.csv': 'flag_code,flag_name\nXX,Else\n' }, true],
    ['a parameter that it does not use', { 'parameters.sql': "set param.region = 'south'" }, true],
  ])('%s', (_, files, expected) => expect(of(files) === same()).toBe(expected));
  test('a used parameter and a used function count', () => {
    const uses = {
      'staging/call.sql':
        "select c.call_no, functions.f(c.berth_code) as berth_code, c.tonnage from landing.call c where current_setting('param.region') = 'x'",
      'functions/f.sql': 'create function functions.f(t text) returns text language sql immutable return t;',
    };
    expect(of(uses)).not.toBe(of({ ...uses, 'parameters.sql': "set param.region = 'south'" }));
    expect(of(uses)).not.toBe(
      of({
        ...uses,
        'functions/f.sql': 'create function functions.f(t text) returns text language sql immutable return trim(t);',
      }),
    );
  });
  test.each<[string, string]>([
    [
      'a check',
      "create table core.t (\n  call_no text check (functions.f(call_no) <> '')\n);\nselect call_no from staging.call",
    ],
    [
      'an option',
      "create table core.t (\n  call_no text, tonnage text\n) with (load = merge, business_key = 'call_no', update_when = 'functions.f(q.tonnage) <> t.tonnage');\nselect call_no, tonnage::text as tonnage from staging.call",
    ],
  ])('a function that %s uses counts', (_, table) => {
    const meaning = (body: string) =>
      of(
        {
          'core/t.sql': table,
          'functions/f.sql': `create function functions.f(t text) returns text language sql immutable return ${body};`,
        },
        'core.t',
      );
    expect(meaning('t')).toBe(meaning('t'));
    expect(meaning('t')).not.toBe(meaning('trim(t)'));
  });
  test('settings have their defaults unless a run says otherwise', () =>
    expect(settingsOf(projectOf(), new Map([['region', 'east']])).get('param.region')).toBe('east'));
});

describe('intake', () => {
  const source = (
    options: string,
    columns = 'berth_id integer options (column_name $$BerthID$$) not null, code text, at timestamptz, primary key (berth_id)',
  ) =>
    projectOf({
      'sources/s.sql': `create server s foreign data wrapper postgres_fdw; create foreign table landing.b (${columns}) server s options (schema_name 'ops', table_name 'berths'${options})`,
    }).tables.get('landing.b') as SourceTable;
  const rows = `select cast("BerthID" as integer) as "berth_id", cast("code" as text) as "code", cast("at" as timestamptz) as "at" from "ops"."berths"`;
  test.each([
    ['all rows', '', {}, rows],
    ['at most some, for a trial', '', { limit: 10 }, `${rows} limit 10`],
    ['the declared limit', ", limit '7'", {}, `${rows} limit 7`],
    [
      'a filter over declared names',
      ", only 'berth_id > 3 -- big'",
      {},
      `select * from (${rows}) as "b" where (berth_id > 3 -- big\n)`,
    ],
    [
      'past a watermark',
      ", intake 'incremental', watermark 'at'",
      { past: "2026-01-01 o'clock" },
      `select * from (${rows}) as "b" where "at" > '2026-01-01 o''clock'`,
    ],
    ['a bound without a declared watermark means nothing', '', { past: 'x' }, rows],
  ])('%s', (_, options, scope, expected) => {
    expect(planIntake(production, source(options), scope).readSql).toBe(
      `copy (${expected}) to stdout with (format binary)`,
    );
  });
  test('the bound goes back as far as declared, by the watermark’s type', () => {
    const place = { schema: 'landing', name: 'b' };
    const bound = (options: string, columns?: string) =>
      boundSql(source(`, intake 'incremental'${options}`, columns), place);
    expect(bound(", watermark 'at'")).toBe(
      'select cast(max("at") filter (where not "at" >= \'infinity\') as text) as past from "landing"."b"',
    );
    expect(bound(", watermark 'at', look_back '3 days'")).toBe(
      `select cast((max("at") filter (where not "at" >= 'infinity') - interval '3 days') as text) as past from "landing"."b"`,
    );
    expect(bound(", watermark 'n', look_back '100'", 'n bigint')).toBe(
      `select cast(floor(max("n") - '100'::numeric) as text) as past from "landing"."b"`,
    );
    expect(boundSql(source(''), place)).toBeUndefined();
  });
  test('a full copy is swapped in with its key; new rows are taken up, by the key or past the bound', () => {
    const full = planIntake(production, source(''));
    expect([full.swaps, full.finish[0]!.sql]).toEqual([
      true,
      'alter table "landing~next"."b" add constraint "b_pkey" primary key ("berth_id")',
    ]);
    const incremental = ", intake 'incremental', watermark 'at'";
    const taken = planIntake(production, source(incremental), { past: '2026' });
    expect([taken.swaps, taken.finish[1]!.sql]).toEqual([
      false,
      'delete from "landing"."b" as landed using "landing~next"."b" as fresh where landed."berth_id" = fresh."berth_id"',
    ]);
    const keyless = planIntake(production, source(incremental, 'code text, at timestamptz'), { past: '2026' });
    expect(keyless.finish[1]!.sql).toBe(`delete from "landing"."b" where "at" > '2026'`);
  });
  test('types that are not PostgreSQL’s own go as text', () => {
    expect(planIntake(production, source('', 'a text, p extensions.point3d')).copySql).toBe(
      'copy "landing~next"."b" ("a", "p") from stdin',
    );
  });
});
