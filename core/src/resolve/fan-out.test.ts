import { beforeAll, describe, expect, test } from '@jest/globals';
import { fingerprints } from '../graph/fingerprint.js';
import { productionEnvironment, workspaceEnvironment, type Environment } from '../model/place.js';
import { planLoad } from '../load/plan/plan.js';
import { targetPlace } from '../load/plan/context.js';
import { compareProjects } from '../review/changes.js';
import { losses } from '../review/migration.js';
import { loadParser } from '../sql/parser.js';
import type { Definition } from '../model/project.js';
import { changeFiles, readProject } from './read-project.js';

beforeAll(() => loadParser());

const LIST = 'terminal_code,region\nnq,north\ntb,south\n';
const CALLS = `create table mart.calls (code text primary key, region text) with (for_each = 'reference.terminal', each_schema = 'mart_{terminal_code}');
comment on table mart.calls is 'Calls of one terminal.';
select code, current_setting('each.region') as region from staging.call where code = current_setting('each.terminal_code');
create index on mart.calls (region);`;
const filesOf = (definition: string, list = LIST, more: Record<string, string> = {}) =>
  new Map([
    ['layers.sql', 'create schema landing; create schema reference; create schema staging; create schema mart;'],
    [
      'sources/s.sql',
      'create server s foreign data wrapper postgres_fdw; create foreign table landing.call (code text) server s;',
    ],
    ['staging/call.sql', 'select code from landing.call;'],
    ['reference/terminal.csv', list],
    ['mart/calls.sql', definition],
    ...Object.entries(more),
  ]);
const problems = (definition: string, list?: string, more?: Record<string, string>) =>
  readProject(filesOf(definition, list, more)).diagnostics.map(
    (d) =>
      `${d.path} [${(more?.[d.path] ?? definition).slice(d.range.start, d.range.end)}] ${d.message} (${d.hint ?? ''})`,
  );

test('a table a row of the list, each in its schema', () => {
  const project = readProject(filesOf(CALLS));
  expect(project.diagnostics).toEqual([]);
  const made = [...project.tables.values()].filter(
    (t): t is Definition => t.kind === 'definition' && t.layer === 'mart',
  );
  expect(made.map((t) => [t.fullName, t.each!.label])).toEqual([
    ['mart_nq.calls', 'nq'],
    ['mart_tb.calls', 'tb'],
  ]);
  const environments: Environment[] = [productionEnvironment([]), workspaceEnvironment('w_x', [])];
  expect(environments.map((e) => targetPlace(e, made[1]!).schema)).toEqual(['mart_tb', 'w_x_mart_tb']);
  const placeOf = (name: string) => ({ schema: name.split('.')[0]!, name: name.split('.')[1]! });
  const plan = planLoad({ project, environment: environments[0]!, placeOf }, made[1]!);
  expect(plan.session.map((s) => s.sql)).toEqual(
    expect.arrayContaining([
      "select set_config('each.terminal_code', 'tb', true)",
      "select set_config('each.region', 'south', true)",
    ]),
  );
  expect(plan.finish.find((s) => s.kind === 'index')!.sql).toContain('on "mart_tb~next"."calls" (region)');
});

test('a changed value changes the table of its row; a row that goes leaves a table that someone has to give up', () => {
  const before = readProject(filesOf(CALLS));
  const after = changeFiles(before, new Map([['reference/terminal.csv', 'terminal_code,region\nnq,east\ngw,west\n']]));
  const change = compareProjects(before, after);
  expect(Object.fromEntries(change.tables.map((t) => [t.table, t.kind]))).toMatchObject({
    'mart_nq.calls': 'changed',
    'mart_gw.calls': 'new',
    'mart_tb.calls': 'deleted',
  });
  expect(losses(before, after, change)).toEqual([{ of: 'mart_tb.calls' }]);
  const same = changeFiles(before, new Map([['reference/terminal.csv', `${LIST}gw,west\n`]]));
  expect(fingerprints(same).get('mart_nq.calls')).toBe(fingerprints(before).get('mart_nq.calls'));
});

describe('what is wrong with a list is said', () => {
  const at = (text: string) => CALLS.replace("'mart_{terminal_code}'", text);
  test.each<[string, string, string | undefined, string[]]>([
    [
      'no column of it',
      at("'mart_{terminl_code}'"),
      undefined,
      ['[each_schema] reference.terminal has no column terminl_code (did you mean terminal_code?)'],
    ],
    [
      'the same name for all',
      at("'mart_all'"),
      undefined,
      ["[each_schema] each_schema must name a column of the list (write each_schema = 'mart_{terminal_code}')"],
    ],
    [
      'two rows, one name',
      at("'mart_{region}'"),
      'terminal_code,region\nnq,north\ntb,north\n',
      [
        '[each_schema] each_schema: two rows of reference.terminal give mart_north (use a column that distinguishes the rows)',
      ],
    ],
    [
      'the name of a layer',
      at("'{terminal_code}'"),
      'terminal_code,region\nmart,north\n',
      ["[each_schema] each_schema: mart is already in use (add a prefix: 'mart_{terminal_code}')"],
    ],
    [
      'a row without a value',
      CALLS,
      'terminal_code,region\n,north\n',
      ['[each_schema] each_schema: a row of reference.terminal gives ‘mart_’ (give the column a value in each row)'],
    ],
    [
      'an empty list',
      CALLS,
      'terminal_code,region\n',
      [
        '[for_each] reference.terminal has no rows, so there are no tables to make (add a row to reference/terminal.csv)',
      ],
    ],
    [
      'a value that the list lacks',
      CALLS.replace('each.region', 'each.regin'),
      undefined,
      ["[current_setting('each.regin')] reference.terminal has no column regin (did you mean region?)"],
    ],
    [
      'a list without a name for its tables',
      CALLS.replace(", each_schema = 'mart_{terminal_code}'", ''),
      undefined,
      ["[for_each] each_schema must name a column of the list (write each_schema = 'mart_{terminal_code}')"],
    ],
    [
      'another mistake is said once',
      CALLS.replace('select code,', 'select cod,'),
      undefined,
      [
        '[cod] there is no column cod (did you mean code?)',
        '[code] the query returns no column code (did you mean cod?)',
        '[select] the contract does not declare column cod, which the query returns (did you mean code?)',
      ],
    ],
  ])('%s', (_, definition, list, expected) =>
    expect(problems(definition, list)).toEqual(expected.map((e) => `mart/calls.sql ${e}`)),
  );

  test('its tables are read by their own names, and each.* only where there is a row', () => {
    const more = {
      'mart/more.sql': 'select code from mart.calls;',
      'mart/one.sql': 'select code from mart_nq.calls;',
      'mart/odd.sql': "select current_setting('each.region') as r;",
    };
    expect(problems(CALLS, undefined, more)).toEqual([
      'mart/more.sql [mart.calls] layer mart has no table calls (there is mart_nq.calls, mart_tb.calls)',
      "mart/odd.sql [current_setting('each.region')] each.region has a value only in a definition with for_each (write for_each = 'reference.table' in its options)",
    ]);
  });
});
