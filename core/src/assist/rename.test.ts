import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { changed, problems, projectOf } from '../testing.js';
import { rename } from './rename.js';
import type { Renaming } from './rename-edits.js';

beforeAll(loadParser);

const FILES: Readonly<Record<string, string>> = {
  'functions/half.sql':
    'create function functions.half(n numeric) returns numeric language sql immutable return n / 2;',
  'core/dim_berth.sql': `create table core.dim_berth (
  berth_key bigint options (role 'surrogate key') primary key,
  berth_code text not null,
  length_m numeric(6,1) options (on_change 'version') constraint length_is_known check (length_m > 0),
  width date,
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to')
) with (load = history, business_key = 'berth_code', advisory = 'length_is_known,dim_berth_berth_code_not_null');
comment on column core.dim_berth.length_m is 'In metres.';
comment on constraint length_is_known on core.dim_berth is 'Measured.';

select b.berth_code, functions.half(length_m) as length_m, null::date as width from staging.berth b;

create index on core.dim_berth (length_m, berth_code);`,
  'core/fact_stay.sql': `create table core.fact_stay (
  call_no text primary key,
  berth_code text references core.dim_berth (berth_code),
  berth_key bigint options (looked_up_by 'berth_code') references core.dim_berth
) with (load = merge, business_key = 'call_no');
select c.call_no, c.berth_code from staging.call c;`,
  'mart/lengths.sql': `-- length_m stays in a comment
with long as (select * from core.dim_berth where length_m > 3)
select d.berth_code, length_m, d.length_m + 1 as more, 'length_m' as said
from long d
where d.length_m is not null
order by length_m`,
  'mart/joined.sql': `select call_no, berth_code, d.valid_from from staging.call left join core.dim_berth d using (berth_code) where berth_code > 'a'`,
  'mart/kept.sql': `select berth_code, count(call_no) as calls from core.dim_berth b left join staging.call c using (berth_code) group by berth_code`,
  'mart/qualified.sql': `select dim_berth.berth_code as code, core.dim_berth.length_m from core.dim_berth`,
  'checks/long.sql': `create view checks.long with (about = 'core.dim_berth') as select berth_code from core.dim_berth where length_m > functions.half(current_setting('param.region')::numeric)`,
  'docs/berths.md': 'See [core.dim_berth] and `core.dim_berth`.',
};

/** The lines that a rename changes, `file: line`, or what stands in its way. */
function renamed(renaming: Renaming, files: Readonly<Record<string, string>> = {}): string[] {
  const project = projectOf({ ...FILES, ...files });
  expect(problems(project).filter((p) => !/advisory|unused/.test(p))).toEqual([]);
  const result = rename(project, renaming);
  if ('obstacles' in result) return result.obstacles.map((o) => `${o.path}: ${o.message}`);
  expect(problems(changed(project, Object.fromEntries(result.files.map((f) => [f.path, f.after]))))).toEqual(
    problems(project),
  );
  return result.files.flatMap(({ path, before, after }) => {
    if (after === null) return [`${path} goes`];
    const known = new Set((before ?? '').split('\n'));
    return before === null
      ? [`${path} comes`]
      : after
          .split('\n')
          .filter((l) => !known.has(l))
          .map((l) => `${path}: ${l.trim()}`);
  });
}

describe('a column', () => {
  test('is renamed where it is declared, made and read, and nowhere else', () =>
    expect(renamed({ kind: 'column', table: 'core.dim_berth', column: 'length_m', to: 'length_metres' }))
      .toMatchInlineSnapshot(`
     [
       "core/dim_berth.sql: length_metres numeric(6,1) options (was 'length_m', on_change 'version') constraint length_is_known check (length_metres > 0),",
       "core/dim_berth.sql: comment on column core.dim_berth.length_metres is 'In metres.';",
       "core/dim_berth.sql: select b.berth_code, functions.half(length_m) as length_metres, null::date as width from staging.berth b;",
       "core/dim_berth.sql: create index on core.dim_berth (length_metres, berth_code);",
       "mart/lengths.sql: with long as (select * from core.dim_berth where length_metres > 3)",
       "mart/lengths.sql: select d.berth_code, length_metres as length_m, d.length_metres + 1 as more, 'length_m' as said",
       "mart/lengths.sql: where d.length_metres is not null",
       "mart/qualified.sql: select dim_berth.berth_code as code, core.dim_berth.length_metres as length_m from core.dim_berth",
       "checks/long.sql: create view checks.long with (about = 'core.dim_berth') as select berth_code from core.dim_berth where length_metres > functions.half(current_setting('param.region')::numeric)",
     ]
    `));
  test('of a business key, in options, constraints, references and joins by USING', () =>
    expect(renamed({ kind: 'column', table: 'core.dim_berth', column: 'berth_code', to: 'code' }))
      .toMatchInlineSnapshot(`
     [
       "core/dim_berth.sql: code text options (was 'berth_code') not null,",
       "core/dim_berth.sql: ) with (load = history, business_key = 'code', advisory = 'length_is_known,dim_berth_code_not_null');",
       "core/dim_berth.sql: select b.berth_code as code, functions.half(length_m) as length_m, null::date as width from staging.berth b;",
       "core/dim_berth.sql: create index on core.dim_berth (length_m, code);",
       "mart/lengths.sql: select d.code as berth_code, length_m, d.length_m + 1 as more, 'length_m' as said",
       "mart/joined.sql: select call_no, call.berth_code as berth_code, d.valid_from from staging.call left join core.dim_berth d on call.berth_code = d.code where call.berth_code > 'a'",
       "mart/kept.sql: select b.code as berth_code, count(call_no) as calls from core.dim_berth b left join staging.call c on b.code = c.berth_code group by b.code",
       "mart/qualified.sql: select dim_berth.code as code, core.dim_berth.length_m from core.dim_berth",
       "checks/long.sql: create view checks.long with (about = 'core.dim_berth') as select code as berth_code from core.dim_berth where length_m > functions.half(current_setting('param.region')::numeric)",
       "core/fact_stay.sql: berth_code text references core.dim_berth (code),",
     ]
    `));
  test('of a view, under the name that its readers see', () =>
    expect(renamed({ kind: 'column', table: 'staging.berth', column: 'length_m', to: 'metres' }))
      .toMatchInlineSnapshot(`
     [
       "staging/berth.sql: select berth_code, length_m::numeric(6,1) as metres from landing.berth;",
       "core/fact_call.sql: select c.call_no, b.metres as length_m, c.tonnage from staging.call c join staging.berth b using (berth_code);",
       "core/dim_berth.sql: select b.berth_code, functions.half(metres) as length_m, null::date as width from staging.berth b;",
     ]
    `));
  test('of a source keeps its name in the system', () =>
    expect(renamed({ kind: 'column', table: 'landing.berth', column: 'length_m', to: 'metres' }))
      .toMatchInlineSnapshot(`
     [
       "sources/port.sql: metres numeric(6,1) options (column_name 'length_m'),",
       "staging/berth.sql: select berth_code, metres::numeric(6,1) as length_m from landing.berth;",
     ]
    `));
  test('of a reference table, in its file', () =>
    expect(
      renamed(
        { kind: 'column', table: 'reference.flag', column: 'flag_name', to: 'name' },
        { 'mart/flags.sql': 'select flag_code, flag_name from reference.flag' },
      ),
    ).toMatchInlineSnapshot(`
     [
       "reference/flag.csv: flag_code,name",
       "mart/flags.sql: select flag_code, name as flag_name from reference.flag",
     ]
    `));
  test('that a view hands on with a star, in what reads that', () =>
    expect(
      renamed(
        { kind: 'column', table: 'staging.berth', column: 'length_m', to: 'metres' },
        {
          'staging/all.sql': 'select * from staging.berth',
          'mart/of_all.sql': 'select a.berth_code, a.length_m * 2 as twice from (select * from staging.all) a',
        },
      ).filter((l) => l.includes('mart/of_all')),
    ).toEqual(['mart/of_all.sql: select a.berth_code, a.metres * 2 as twice from (select * from staging.all) a']));
  test('that is named as its type', () =>
    expect(
      renamed(
        { kind: 'column', table: 'core.days', column: 'date', to: 'day' },
        { 'core/days.sql': "create table core.days (date date primary key);\nselect date '2026-01-01' as date" },
      ),
    ).toMatchInlineSnapshot(`
     [
       "core/days.sql: create table core.days (day date primary key);",
       "core/days.sql: select date '2026-01-01' as day",
     ]
    `));
  test('in groups and orders of the query that makes it', () =>
    expect(
      renamed(
        { kind: 'column', table: 'mart.counted', column: 'initial', to: 'first_letter' },
        {
          'mart/counted.sql':
            'select left(berth_code, 1) as initial, count(*) as n from core.dim_berth group by initial order by initial',
        },
      ),
    ).toMatchInlineSnapshot(`
     [
       "mart/counted.sql: select left(berth_code, 1) as first_letter, count(*) as n from core.dim_berth group by first_letter order by first_letter",
     ]
    `));
  test.each<[string, Renaming, Readonly<Record<string, string>>, readonly string[]]>([
    [
      'a name that is taken',
      { kind: 'column', table: 'core.dim_berth', column: 'length_m', to: 'berth_code' },
      {},
      [': core.dim_berth has a column berth_code already'],
    ],
    [
      'no name',
      { kind: 'column', table: 'core.dim_berth', column: 'length_m', to: 'Länge 1' },
      {},
      [': Länge 1 is not a name: small letters, digits and _, beginning with a letter'],
    ],
    [
      'a column that is not there',
      { kind: 'column', table: 'core.dim_berth', column: 'depth', to: 'x' },
      {},
      [': there is no column core.dim_berth.depth'],
    ],
    [
      'a query that takes it with a star',
      { kind: 'column', table: 'mart.star', column: 'length_m', to: 'x' },
      { 'mart/star.sql': 'select * from staging.berth' },
      ['mart/star.sql: the query takes length_m with *: write its columns out first'],
    ],
    [
      'a natural join',
      { kind: 'column', table: 'staging.berth', column: 'berth_code', to: 'x' },
      {
        'mart/natural.sql': 'select berth_code as code, call_no from staging.call natural join staging.berth',
        'mart/joined.sql': 'select 1 as one',
        'core/fact_call.sql': 'create table core.fact_call as select 1 as one;',
      },
      [],
    ],
  ])('is not renamed to %s', (_, renaming, files, expected) => {
    const found = renamed(renaming, files);
    if (expected.length) expect(found).toEqual(expected);
    else expect(found.join()).not.toContain('natural join staging.berth where');
  });
});

describe('a table', () => {
  test('is renamed with its file, in queries, contracts, checks and notes; its rows move along', () =>
    expect(renamed({ kind: 'table', table: 'core.dim_berth', to: 'core.dim_place' })).toMatchInlineSnapshot(`
     [
       "mart/lengths.sql: with long as (select * from core.dim_place where length_m > 3)",
       "mart/joined.sql: select call_no, berth_code, d.valid_from from staging.call left join core.dim_place d using (berth_code) where berth_code > 'a'",
       "mart/kept.sql: select berth_code, count(call_no) as calls from core.dim_place b left join staging.call c using (berth_code) group by berth_code",
       "mart/qualified.sql: select dim_place.berth_code as code, core.dim_place.length_m from core.dim_place",
       "checks/long.sql: create view checks.long with (about = 'core.dim_place') as select berth_code from core.dim_place where length_m > functions.half(current_setting('param.region')::numeric)",
       "core/dim_berth.sql goes",
       "core/fact_stay.sql: berth_code text references core.dim_place (berth_code),",
       "core/fact_stay.sql: berth_key bigint options (looked_up_by 'berth_code') references core.dim_place",
       "docs/berths.md: See [core.dim_place] and \`core.dim_berth\`.",
       "core/dim_place.sql comes",
     ]
    `));
  test('moves to another layer', () =>
    expect(renamed({ kind: 'table', table: 'staging.call', to: 'core.calls' })).toMatchInlineSnapshot(`
     [
       "core/fact_call.sql: select c.call_no, b.length_m, c.tonnage from core.calls c join staging.berth b using (berth_code);",
       "core/fact_stay.sql: select c.call_no, c.berth_code from core.calls c;",
       "mart/joined.sql: select call_no, berth_code, d.valid_from from core.calls left join core.dim_berth d using (berth_code) where berth_code > 'a'",
       "mart/kept.sql: select berth_code, count(call_no) as calls from core.dim_berth b left join core.calls c using (berth_code) group by berth_code",
       "core/calls.sql comes",
       "staging/call.sql goes",
     ]
    `));
  test('of a reference moves both files', () =>
    expect(renamed({ kind: 'table', table: 'reference.flag', to: 'reference.flags' })).toMatchInlineSnapshot(`
     [
       "reference/flags.csv comes",
       "reference/flag.csv goes",
     ]
    `));
  test.each<[string, string, string]>([
    ['core.dim_berth', 'core.fact_stay', 'there is a table core.fact_stay already'],
    ['core.dim_berth', 'nowhere.x', 'there is no layer nowhere'],
    ['core.dim_berth', 'x', "x is not a table's name: write layer.name, in small letters, digits and _"],
    [
      'landing.call',
      'landing.calls',
      'landing.call has its name from the system: declare table_name first, so that it keeps it there',
    ],
  ])('%s is not renamed to %s', (table, to, message) => {
    const result = rename(projectOf(FILES), { kind: 'table', table, to });
    expect('obstacles' in result && result.obstacles.map((o) => o.message)).toEqual([message]);
  });
});

describe('a layer', () => {
  test('is renamed with its folder, wherever one of its tables is named; rows move along', () =>
    expect(
      renamed(
        { kind: 'layer', layer: 'core', to: 'model' },
        { 'mart/hidden.sql': 'with core as (select 1 as n) select core.n, d.berth_code from core, core.dim_berth d' },
      ),
    ).toMatchInlineSnapshot(`
     [
       "mart/lengths.sql: with long as (select * from model.dim_berth where length_m > 3)",
       "mart/joined.sql: select call_no, berth_code, d.valid_from from staging.call left join model.dim_berth d using (berth_code) where berth_code > 'a'",
       "mart/kept.sql: select berth_code, count(call_no) as calls from model.dim_berth b left join staging.call c using (berth_code) group by berth_code",
       "mart/qualified.sql: select dim_berth.berth_code as code, model.dim_berth.length_m from model.dim_berth",
       "mart/hidden.sql: with core as (select 1 as n) select core.n, d.berth_code from core, model.dim_berth d",
       "checks/long.sql: create view checks.long with (about = 'model.dim_berth') as select berth_code from model.dim_berth where length_m > functions.half(current_setting('param.region')::numeric)",
       "layers.sql: create schema landing; create schema reference; create schema staging; create schema model; create schema mart;",
       "layers.sql: comment on schema model is 'What the port agrees on.';",
       "core/fact_call.sql goes",
       "core/dim_berth.sql goes",
       "core/fact_stay.sql goes",
       "docs/berths.md: See [model.dim_berth] and \`core.dim_berth\`.",
       "model/fact_call.sql comes",
       "model/dim_berth.sql comes",
       "model/fact_stay.sql comes",
     ]
    `));
  test('of sources keeps the names in the system', () =>
    expect(renamed({ kind: 'layer', layer: 'landing', to: 'raw' })).toMatchInlineSnapshot(`
     [
       "staging/berth.sql: select berth_code, length_m::numeric(6,1) as length_m from raw.berth;",
       "staging/call.sql: select c.call_no, c.berth_code, c.tonnage from raw.call c",
       "layers.sql: create schema raw; create schema reference; create schema staging; create schema core; create schema mart;",
       "sources/port.sql: create foreign table raw.berth (",
       "sources/port.sql: create foreign table raw.call (call_no text not null, berth_code text, tonnage numeric(12,2), arrived_at timestamptz) server port;",
     ]
    `));
  test.each<[string, string, string]>([
    ['core', 'mart', 'there is a layer mart already'],
    ['core', 'checks', 'checks is a folder of its own in a project'],
    ['core', 'Model', 'Model is not a name: small letters, digits and _, beginning with a letter'],
    ['reference', 'lists', 'reference is where tables with files of values are'],
    ['nothing', 'else', 'there is no layer nothing'],
  ])('%s cannot be %s', (layer, to, message) =>
    expect(renamed({ kind: 'layer', layer, to })).toEqual([`: ${message}`]),
  );
});

describe('worked examples', () => {
  const EXAMPLES = {
    'examples/core.fact_stay/one/1.input.staging.call.csv': 'call_no,berth_code\nC-1,N1\n',
    'examples/core.fact_stay/one/member.core.dim_berth.csv': '"berth_code",width\nN1,2020-01-01\n',
    'examples/core.fact_stay/one/target.csv': 'call_no,berth_key\nC-0,unknown\n',
    'examples/core.fact_stay/one/params.csv': 'now,region\n2026-01-01,south\n',
    'examples/core.fact_stay/one/result.csv': 'call_no,berth_code,berth_key\nC-1,N1,N1\n',
  };
  const inExamples = (renaming: Renaming) => renamed(renaming, EXAMPLES).filter((line) => line.startsWith('examples/'));
  test.each<[string, Renaming, string[]]>([
    [
      'a dimension',
      { kind: 'table', table: 'core.dim_berth', to: 'core.dim_place' },
      [
        'examples/core.fact_stay/one/member.core.dim_berth.csv goes',
        'examples/core.fact_stay/one/member.core.dim_place.csv comes',
      ],
    ],
    [
      'a layer',
      { kind: 'layer', layer: 'staging', to: 'raw' },
      [
        'examples/core.fact_stay/one/1.input.raw.call.csv comes',
        'examples/core.fact_stay/one/1.input.staging.call.csv goes',
      ],
    ],
    [
      'a column of the definition',
      { kind: 'column', table: 'core.fact_stay', column: 'berth_key', to: 'place_key' },
      [
        'examples/core.fact_stay/one/result.csv: call_no,berth_code,place_key',
        'examples/core.fact_stay/one/target.csv: call_no,place_key',
      ],
    ],
    [
      'a column of an input that is handed on',
      { kind: 'column', table: 'core.dim_berth', column: 'berth_code', to: 'code' },
      ['examples/core.fact_stay/one/member.core.dim_berth.csv: code,width'],
    ],
    [
      'a parameter',
      { kind: 'parameter', name: 'region', to: 'area' },
      ['examples/core.fact_stay/one/params.csv: now,area'],
    ],
  ])('follow %s', (_, renaming, expected) => {
    expect(inExamples(renaming).sort()).toEqual(expected);
  });
});

test('a function is renamed with its file and calls', () =>
  expect(renamed({ kind: 'function', name: 'half', to: 'halved' })).toMatchInlineSnapshot(`
   [
     "functions/half.sql goes",
     "core/dim_berth.sql: select b.berth_code, functions.halved(length_m) as length_m, null::date as width from staging.berth b;",
     "checks/long.sql: create view checks.long with (about = 'core.dim_berth') as select berth_code from core.dim_berth where length_m > functions.halved(current_setting('param.region')::numeric)",
     "functions/halved.sql comes",
   ]
  `));

test('a parameter is renamed where it is declared and read', () =>
  expect(renamed({ kind: 'parameter', name: 'region', to: 'area' })).toMatchInlineSnapshot(`
   [
     "parameters.sql: set param.area = 'north';",
     "checks/long.sql: create view checks.long with (about = 'core.dim_berth') as select berth_code from core.dim_berth where length_m > functions.half(current_setting('param.area')::numeric)",
   ]
  `));

describe('jobs', () => {
  const JOB = {
    'sources/files.sql': `create server files foreign data wrapper file_fdw;
create foreign table landing.rate (n integer) server files options (pattern 'rate_{as_of:date}.csv');`,
    'jobs/early.sql': `create publication early for table core.fact_stay, tables in schema mart, core
with (on_delivery = 'landing.rate', "param.region" = '7');`,
  };
  const inJob = (renaming: Renaming) => renamed(renaming, JOB).filter((line) => line.startsWith('jobs/'));
  const WITH = (table: string, parameter: string) =>
    `jobs/early.sql: with (on_delivery = '${table}', "param.${parameter}" = '7');`;
  test.each<[string, Renaming, readonly string[]]>([
    [
      'name tables by their new names',
      { kind: 'table', table: 'core.fact_stay', to: 'core.fact_visit' },
      ['jobs/early.sql: create publication early for table core.fact_visit, tables in schema mart, core'],
    ],
    [
      'name layers by theirs',
      { kind: 'layer', layer: 'core', to: 'base' },
      ['jobs/early.sql: create publication early for table base.fact_stay, tables in schema mart, base'],
    ],
    [
      'wait for files of a table under its new name',
      { kind: 'table', table: 'landing.rate', to: 'landing.tariff' },
      [WITH('landing.tariff', 'region')],
    ],
    [
      'set a parameter under its new name',
      { kind: 'parameter', name: 'region', to: 'area' },
      [WITH('landing.rate', 'area')],
    ],
  ])('%s', (_, renaming, lines) => expect(inJob(renaming)).toEqual(lines));
});
