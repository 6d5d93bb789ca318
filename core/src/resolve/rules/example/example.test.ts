import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../../sql/parser.js';
import { changed, projectOf } from '../../../testing.js';
import { exampleDigest } from '../../../example/digest.js';

beforeAll(() => loadParser());

const DEFINITIONS = {
  'staging/berth.sql': null,
  'core/fact_call.sql': null,
  'layers.sql': 'create schema landing; create schema reference; create schema staging; create schema core;',
  'parameters.sql': `set param.least = '1';`,
  'sources/port.sql':
    'create server s foreign data wrapper postgres_fdw; create foreign table landing.call (code text, tons integer, at timestamptz) server s;',
  'staging/call.sql': 'select code, tons, at from landing.call;',
  'core/dim_port.sql': `create table core.dim_port (port_key bigint options (role 'surrogate key') primary key, code text not null) with (load = merge, business_key = 'code');
select distinct code from staging.call;`,
  'core/fact.sql': `create table core.fact (code text, port_key bigint options (looked_up_by 'code') references core.dim_port (port_key));
select code from staging.call;`,
  'core/luck.sql': 'select code, random() as r from staging.call;',
  'core/events.sql': `create table core.events (code text not null, valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'))
with (load = history, business_key = 'code', effective_from = 'at');
select code, at from staging.call;`,
  'core/each.sql': `create table core.each (code text) with (for_each = 'reference.list', each_schema = 'x_{code}');
select current_setting('each.code') as code from staging.call;`,
  'reference/list.csv': 'code\na\nb\n',
};
const LANDING = 'code,tons\nA,1\n';
const said = (files: Readonly<Record<string, string>>) =>
  projectOf({
    ...DEFINITIONS,
    ...Object.fromEntries(Object.entries(files).map(([path, text]) => [`examples/${path}.csv`, text])),
  })
    .diagnostics.filter((d) => d.path.startsWith('examples/'))
    .map((d) => `${d.path.split('/').slice(2).join('/')} ${d.message}${d.hint ? ` (${d.hint})` : ''}`);

describe('examples without faults', () => {
  test.each([
    ['of a view', { 'staging.call/x/input.landing.call': LANDING, 'staging.call/x/result': 'code\nA\n' }],
    [
      'of a fact, its dimension given as members',
      {
        'core.fact/x/input.staging.call': 'code\nA\n',
        'core.fact/x/member.core.dim_port': 'code\nA\n',
        'core.fact/x/result': 'code,port_key\nA,A\n',
      },
    ],
    [
      'of several loads with a table before, a time and a parameter for each',
      {
        'core.dim_port/x/target': 'code\nA\n',
        'core.dim_port/x/1.input.staging.call': 'code\nA\n',
        'core.dim_port/x/2.input.staging.call': 'code\nB\n',
        'core.dim_port/x/params': 'now,least\n2026-01-01,1\n2026-01-02,2\n',
        'core.dim_port/x/result': 'code\nA\nB\n',
      },
    ],
    [
      'of a fan-out',
      {
        'core.each/x/input.staging.call': 'code\nA\n',
        'core.each/x/each': 'code\na\n',
        'core.each/x/result': 'code\na\n',
      },
    ],
  ])('%s', (_, files) => {
    expect(said(files as Record<string, string>)).toEqual([]);
  });
});

const VIEW = { 'staging.call/x/input.landing.call': LANDING, 'staging.call/x/result': 'code\nA\n' };
const PORTS = { 'core.dim_port/x/input.staging.call': 'code\nA\n', 'core.dim_port/x/result': 'code\nA\n' };

describe('what is wrong with an example', () => {
  test.each<[string, Readonly<Record<string, string>>, string[]]>([
    [
      'an input that is not given',
      { 'staging.call/x/result': 'code\n' },
      [
        'x/result.csv input.landing.call.csv is missing (staging.call reads it; a file with a header alone has no rows)',
      ],
    ],
    [
      'no result',
      { 'staging.call/x/input.landing.call': LANDING },
      [
        'x/input.landing.call.csv result.csv is missing (it holds the rows to expect; a file with a header alone has no rows)',
      ],
    ],
    [
      'a definition that is not there',
      { 'staging.cal/x/result': 'code\n' },
      ['x/result.csv there is no definition staging.cal (did you mean staging.call?)'],
    ],
    [
      'a source is no definition',
      { 'landing.call/x/result': 'code\n' },
      ['x/result.csv there is no definition landing.call (did you mean staging.call?)'],
    ],
    [
      'an input that is not read',
      { ...VIEW, 'staging.call/x/input.landing.cal': LANDING },
      ['x/input.landing.cal.csv staging.call does not read landing.cal (did you mean landing.call?)'],
    ],
    [
      'a member where no key is looked up',
      { ...VIEW, 'staging.call/x/member.core.dim_port': 'code\n' },
      ['x/member.core.dim_port.csv staging.call looks no key up in core.dim_port (remove the file)'],
    ],
    [
      'a dimension that is not given',
      { 'core.fact/x/input.staging.call': 'code\n', 'core.fact/x/result': 'code\n' },
      [
        'x/result.csv member.core.dim_port.csv is missing (keys are looked up in it; a file with a header alone has no rows)',
      ],
    ],
    [
      'columns of the input and of the result',
      { 'staging.call/x/input.landing.call': 'code,ton\n', 'staging.call/x/result': 'kode\n' },
      [
        'x/input.landing.call.csv landing.call has no column ton (did you mean tons?)',
        'x/result.csv staging.call has no column kode (did you mean code?)',
      ],
    ],
    [
      'values of other types',
      { ...VIEW, 'staging.call/x/input.landing.call': 'tons,at\nmany,\n1,soon\n' },
      [
        'x/input.landing.call.csv tons: “many” is not a whole number',
        'x/input.landing.call.csv at: “soon” is not a timestamp such as 2026-03-01 14:05:00+00',
      ],
    ],
    [
      'several loads of what each load makes again',
      { ...VIEW, 'staging.call/x/2.input.landing.call': LANDING },
      [
        'x/2.input.landing.call.csv staging.call is made from its inputs alone by each load (give one load, and no target.csv)',
      ],
    ],
    [
      'loads with a gap',
      { ...PORTS, 'core.dim_port/x/3.input.staging.call': 'code\nA\n' },
      ['x/result.csv load 2 has no input (number loads from 1 without gaps)'],
    ],
    [
      'parameters',
      { ...PORTS, 'core.dim_port/x/params': 'leest,now\n1,2026-01-01\n2,2026-01-02\n' },
      [
        'x/params.csv params.csv needs one line, or one for each of 1 loads',
        'x/params.csv there is no parameter leest (did you mean least?)',
      ],
    ],
    [
      'a history of events that begins with a table',
      {
        'core.events/x/target': 'code\n',
        'core.events/x/input.staging.call': 'code\n',
        'core.events/x/result': 'code\n',
      },
      [
        'x/target.csv a history of events cannot begin with target.csv (give what came before as a load of its own: 1.input.layer.table.csv)',
      ],
    ],
    [
      'a query that nobody can expect',
      { 'core.luck/x/input.staging.call': 'code\n', 'core.luck/x/result': 'code\n' },
      [
        'x/result.csv core.luck uses random(), whose result differs with each call (use a parameter or a column of an input instead)',
      ],
    ],
    [
      'a fan-out without its row',
      { 'core.each/x/input.staging.call': 'code\n', 'core.each/x/result': 'code\n' },
      ['x/result.csv each.csv needs one row (its columns are code)'],
    ],
    [
      'a row of a list for one table',
      { ...VIEW, 'staging.call/x/each': 'code\na\n' },
      ['x/each.csv staging.call is one table, not one for each row of a list (remove each.csv)'],
    ],
    [
      'a file that means nothing',
      { ...VIEW, 'staging.call/x/output': 'code\n' },
      [
        'x/output.csv this is not a file of a worked example (examples/layer.table/example/ holds input.layer.table.csv, member.layer.table.csv, target.csv, params.csv, each.csv and result.csv)',
      ],
    ],
    [
      'a line of another length',
      { ...VIEW, 'staging.call/x/result': 'code,tons\nA\nB,2\n' },
      ['x/result.csv the line has 1 fields, the header 2 (line 2 of examples/staging.call/x/result.csv)'],
    ],
    [
      'too many rows',
      { ...VIEW, 'staging.call/x/result': `code\n${'A\n'.repeat(1001)}` },
      ['x/result.csv the file has 1001 rows; 1000 are the most (keep the rows that show the case)'],
    ],
  ])('%s', (_, files, expected) => {
    expect(said(files)).toEqual(expected);
  });
});

test('an outcome is known again until its files, its definition or what that reads change', () => {
  const digestOf = (files: Readonly<Record<string, string>>) => {
    const project = projectOf({ ...DEFINITIONS, 'examples/core.dim_port/x/result.csv': 'code\nA\n', ...files });
    return exampleDigest(project, project.examples.get('core.dim_port')![0]!);
  };
  const before = digestOf({});
  expect(digestOf({ 'core/luck.sql': 'select 1 as one;' })).toBe(before);
  expect(digestOf({ 'core/dim_port.sql': `-- A word.\n${DEFINITIONS['core/dim_port.sql']}` })).toBe(before);
  expect(digestOf({ 'examples/core.dim_port/x/result.csv': 'code\nB\n' })).not.toBe(before);
  expect(digestOf({ 'staging/call.sql': `select code, tons, at from landing.call where tons > 0;` })).not.toBe(before);
});

test('edit by edit says what reading all at once says', () => {
  const examples = {
    'examples/staging.call/x/input.landing.call.csv': LANDING,
    'examples/staging.call/x/result.csv': 'code\nA\n',
    'examples/core.fact/x/input.staging.call.csv': 'code\nA\n',
    'examples/core.fact/x/member.core.dim_port.csv': 'code\nA\n',
    'examples/core.fact/x/result.csv': 'code,port_key\nA,A\n',
    'examples/core.dim_port/x/input.staging.call.csv': 'code\nA\n',
    'examples/core.dim_port/x/params.csv': 'least\n1\n',
    'examples/core.dim_port/x/result.csv': 'code\nA\n',
  };
  const edits: readonly Readonly<Record<string, string | null>>[] = [
    { 'staging/call.sql': 'select code as kode, tons, at from landing.call;' },
    { 'parameters.sql': `set param.most = '1';` },
    { 'staging/call.sql': 'select code, tons, at from landing.call;' },
    { 'core/fact.sql': 'create table core.fact (code text);\nselect code from staging.call;' },
    { 'examples/core.fact/x/member.core.dim_port.csv': null },
    { 'core/fact.sql': DEFINITIONS['core/fact.sql'] },
    { 'examples/core.fact/x/member.core.dim_port.csv': 'code,tons\nA,1\n' },
    { 'core/dim_port.sql': null },
    { 'core/dim_port.sql': DEFINITIONS['core/dim_port.sql'], 'parameters.sql': DEFINITIONS['parameters.sql'] },
    {
      'functions/luck.sql': 'create function functions.luck() returns double precision language sql stable return 1.0;',
    },
    { 'staging/call.sql': 'select code, functions.luck()::integer as tons, now() as at from landing.call;' },
    {
      'functions/luck.sql': `create function functions.luck() returns double precision language sql stable as 'select extract(epoch from now())::double precision';`,
    },
  ];
  let files: Record<string, string | null> = { ...DEFINITIONS, ...examples };
  let project = projectOf(files);
  const of = (p: typeof project) =>
    p.diagnostics
      .filter((d) => d.path.startsWith('examples/'))
      .map((d) => `${d.path} ${d.message}`)
      .sort();
  const seen = new Set<number>();
  for (const edit of edits) {
    files = { ...files, ...edit };
    project = changed(project, edit);
    expect(of(project)).toEqual(of(projectOf(files)));
    seen.add(of(project).length);
  }
  expect(seen.size).toBeGreaterThan(2);
});
