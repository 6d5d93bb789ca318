import { beforeAll, describe, expect, test } from '@jest/globals';
import { rowPrints } from '../graph/fingerprint.js';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { changedChecks, checkDigests } from './check-text.js';
import { tableChecks } from './table-checks.js';

beforeAll(loadParser);

const CONTRACT = `create table core.berth (
  berth_code text not null primary key,
  depth_m numeric check (depth_m > 0),
  terminal text references reference.terminal
) with (tolerate = 'berth_depth_m_check: 2');
select berth_code, depth_m, terminal from staging.berth;`;
const FILES = {
  'core/berth.sql': CONTRACT,
  'reference/terminal.sql': 'create table reference.terminal (terminal text primary key)',
  'staging/berth.sql': 'select 1 as berth_code, 2 as depth_m, 3 as terminal;',
  'functions/deep.sql':
    'create function functions.deep(x numeric) returns boolean immutable language sql as $$ select x > 5 $$;',
  'checks/shallow.sql':
    "create view checks.shallow with (about = 'core.berth') as select * from core.berth where not functions.deep(depth_m);",
  'checks/least.sql':
    "create view checks.least as select * from core.berth where depth_m < current_setting('param.least')::numeric;",
  'parameters.sql': "set param.least = '3';",
};
const changes = (files: Readonly<Record<string, string | undefined>>) => {
  const after = Object.entries({ ...FILES, ...files }).filter((e): e is [string, string] => e[1] !== undefined);
  return changedChecks(projectOf(FILES), projectOf(Object.fromEntries(after)))
    .map(({ change, check }) => `${change} ${check.id}`)
    .sort();
};
const berth = (from: string | RegExp, to: string) => ({ 'core/berth.sql': CONTRACT.replace(from, to) });

describe('checks that changed', () => {
  test.each<[string, Readonly<Record<string, string | undefined>>, string[]]>([
    ['nothing', {}, []],
    ['layout and comments', berth('depth_m > 0', 'depth_m  >  /* no water */ 0'), []],
    ['a condition', berth('depth_m > 0', 'depth_m > 1'), ['changed core.berth/berth_depth_m_check']],
    ['what is tolerated', berth(': 2', ': 3'), ['changed core.berth/berth_depth_m_check']],
    ['what is advisory', berth('with (', "with (advisory = 'berth_pkey', "), ['changed core.berth/berth_pkey']],
    ['the query alone', berth('select berth_code', 'select distinct berth_code'), []],
    ['a constraint more', berth('terminal text', 'terminal text not null'), ['new core.berth/berth_terminal_not_null']],
    ['a constraint less', berth(' check (depth_m > 0)', ''), ['deleted core.berth/berth_depth_m_check']],
    [
      'a function of a check',
      { 'functions/deep.sql': FILES['functions/deep.sql'].replace('5', '6') },
      ['changed checks/shallow'],
    ],
    ['a parameter of a check', { 'parameters.sql': "set param.least = '4';" }, ['changed checks/least']],
    [
      'a file of checks/ more',
      { 'checks/one.sql': 'create view checks.one as select 1 from core.berth;' },
      ['new checks/one'],
    ],
    ['a file of checks/ less', { 'checks/least.sql': undefined }, ['deleted checks/least']],
  ])('%s', (_, files, expected) => expect(changes(files)).toEqual(expected));
  test('each check of a project has a digest of its own', () => {
    const digests = [...checkDigests(projectOf(FILES)).values()];
    expect(digests.length).toBeGreaterThan(4);
    expect(new Set(digests).size).toBe(digests.length);
  });
});

describe('tables have the same rows', () => {
  const print = (contract: string) => rowPrints(projectOf({ ...FILES, 'core/berth.sql': contract })).get('core.berth');
  test.each<[string, string | RegExp, string, boolean]>([
    ['another condition', 'depth_m > 0', 'depth_m > 1', true],
    ['not null', 'depth_m numeric', 'depth_m numeric not null', true],
    ['what is tolerated', ': 2', ': 3', true],
    ['a comment', 'select', '-- as they are\nselect', true],
    ['another query', 'select berth_code', 'select distinct berth_code', false],
    ['another type', 'depth_m numeric', 'depth_m numeric(5,1)', false],
    ['another key', 'not null primary key', 'not null', false],
    ['another reference', ' references reference.terminal', '', false],
    ['another policy', 'with (', "with (load = merge, business_key = 'berth_code', ", false],
  ])('%s', (_, from, to, same) => expect(print(CONTRACT.replace(from, to)) === print(CONTRACT)).toBe(same));
});

test('checks of a table alone are counted in one statement, over the table where it is, with the environment’s functions', () => {
  const project = projectOf({ ...FILES, ...berth('depth_m > 0', 'functions.deep(depth_m)') });
  const names = {
    placeOf: (table: string) => ({ schema: `w_${table.split('.')[0]}`, name: table.split('.')[1]! }),
    functionsSchema: 'w_functions',
  };
  const { checks, count, rowsOf } = tableChecks(project, project.tables.get('core.berth')!, names, { limit: 7 });
  expect([count, ...checks.map(rowsOf)]).toMatchInlineSnapshot(`
   [
     "select count(*) as total,
          count(*) filter (where "berth_code" is null) as c0,
          count(*) filter (where "berth_code" is null) + (select coalesce(sum(n), 0) from (select count(*) as n from "w_core"."berth" where "berth_code" is not null group by "berth_code" having count(*) > 1) as repeated) as c1,
          count(*) filter (where ("w_functions"."deep"(depth_m)
   ) is false) as c2,
          (select count(*) from "w_core"."berth" as "berth" where "berth"."terminal" is not null and not exists (select from "w_reference"."terminal" as known where known."terminal" = "berth"."terminal")) as c3
   from "w_core"."berth" as "berth"",
     "select * from "w_core"."berth" as "berth"
   where "berth_code" is null
   limit 7",
     "select * from "w_core"."berth" as "berth"
   where "berth_code" is null or ("berth_code") in (select "berth_code" from "w_core"."berth" group by "berth_code" having count(*) > 1)
   order by "berth_code"
   limit 7",
     "select * from "w_core"."berth" as "berth"
   where ("w_functions"."deep"(depth_m)
   ) is false
   limit 7",
     "select * from "w_core"."berth" as "berth"
   where "berth"."terminal" is not null and not exists (select from "w_reference"."terminal" as known where known."terminal" = "berth"."terminal")
   limit 7",
   ]
  `);
});
