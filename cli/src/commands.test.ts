import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { main } from './main.js';

/** A server that knows a small project and answers every run with what a test has prepared. */
let server: Server;
let env: Record<string, string>;
/** What was asked for with a body, by path. */
let posted: [path: string, body: unknown][] = [];
/** How a run is found each time that it is looked at; the last answer stays. */
let looks: unknown[] = [];

const NOW = {
  'layers.sql': 'create schema staging;\ncreate schema core;\ncreate schema mart;\n',
  'parameters.sql': "set param.since = '2026-01-01';\n",
  'functions/twice.sql':
    'create function functions.twice(n integer) returns integer language sql immutable return n * 2;\n',
  'staging/berth.sql': 'select 1 as berth_no;\n',
  'core/dim_berth.sql':
    "create table core.dim_berth (berth_no integer not null) with (load = rebuild, owner = 'harbour master');\nselect b.berth_no from staging.berth as b;\n",
  'core/doubled.sql': 'create table core.doubled as select functions.twice(b.berth_no) as n from staging.berth as b;\n',
  'mart/berths.sql':
    "create table mart.berths (berths bigint) with (load = rebuild, owner = 'dues office');\nselect count(*) as berths from core.dim_berth;\n",
};
/** Two tables with worked examples. */
const EXAMPLES = {
  'examples/core.dim_berth/one/input.staging.berth.csv': 'berth_no\n1\n',
  'examples/core.dim_berth/one/result.csv': 'berth_no\n1\n',
  'examples/mart.berths/two/input.core.dim_berth.csv': 'berth_no\n1\n',
  'examples/mart.berths/two/result.csv': 'berths\n1\n',
};
const BEFORE = {
  ...NOW,
  'functions/twice.sql':
    'create function functions.twice(n integer) returns integer language sql immutable return n + n;\n',
};
/** What comes of the examples of a table. */
const found = ({ table }: { readonly table: string }) =>
  table === 'core.dim_berth'
    ? [
        { table, name: 'one', verdict: 'holds', outcome: null },
        {
          ...{ table, name: 'two', verdict: 'differs' },
          outcome: { error: null, rows: ['differs', 'same', 'differs', 'missing', 'extra'].map((kind) => ({ kind })) },
        },
      ]
    : [
        {
          ...{ table, name: 'three', verdict: 'failed' },
          outcome: { error: { message: 'there is no x', path: 'mart/berths.sql', line: 2 }, rows: [] },
        },
        { table, name: 'four', verdict: 'errors', outcome: null },
      ];
const files = (of: Readonly<Record<string, string>>) => ({ commit: 'c', files: of, drafts: [], since: null });

beforeAll(async () => {
  server = createServer((request, response) => {
    const chunks: Buffer[] = [];
    request.on('data', (chunk: Buffer) => chunks.push(chunk));
    request.on('end', () => {
      const path = request.url!.slice('/api/'.length);
      if (request.method === 'POST') posted.push([path, JSON.parse(Buffer.concat(chunks).toString())]);
      const answer = path.includes('/files?at=')
        ? files(BEFORE)
        : path.endsWith('/files')
          ? files({ ...NOW, ...EXAMPLES })
          : path.startsWith('runs/')
            ? looks.length > 1
              ? looks.shift()
              : looks[0]
            : path.endsWith('/examples/runs')
              ? found(posted.at(-1)![1] as { table: string })
              : path.endsWith('/way-back')
                ? { slug: 'back' }
                : path.includes('/script')
                  ? `-- ${path}`
                  : { id: 7, kind: 'build', environment: 'production', state: 'queued' };
      response.writeHead(200).end(typeof answer === 'string' ? answer : JSON.stringify(answer));
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  env = { OUVRAGE_SERVER: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, OUVRAGE_TOKEN: 'secret' };
});
afterAll(() => new Promise((resolve) => server.close(resolve)));
beforeEach(() => {
  [posted, looks] = [[], []];
});

async function ran(args: string) {
  const told = { out: '', err: '' };
  const code = await main(
    args.match(/"[^"]*"|\S+/g)!.map((a) => a.replaceAll('"', '')),
    {
      out: (text) => (told.out += text),
      err: (text) => (told.err += text),
      env,
    },
  );
  return { code, ...told };
}

describe('a selection', () => {
  test.each<[string, string, string]>([
    ['of all', '', 'staging.berth core.dim_berth core.doubled mart.berths'],
    ['by table', '--table core.dim_berth', 'core.dim_berth'],
    [
      'by two tables, in the order of loading',
      '--table mart.berths --table core.dim_berth',
      'core.dim_berth mart.berths',
    ],
    ['with inputs', '--table mart.berths --with-inputs', 'staging.berth core.dim_berth mart.berths'],
    ['with readers', '--table core.dim_berth --with-readers', 'core.dim_berth mart.berths'],
    ['by layer', '--layer core', 'core.dim_berth core.doubled'],
    ['by owner', '--owner "dues office"', 'mart.berths'],
    ['by owner and layer', '--owner "dues office" --layer staging', 'staging.berth mart.berths'],
    // The table is as it was: the function that it calls is another.
    ['by what has changed', '--changed-since abcdef0', 'core.doubled'],
    ['by what has changed of a layer', '--changed-since abcdef0 --layer mart', ''],
  ])('%s', async (_, args, tables) => {
    expect(await ran(`plan ${args}`)).toEqual({
      code: 0,
      out: tables ? `${tables.replaceAll(' ', '\n')}\n` : '',
      err: '',
    });
    expect((await ran(`plan ${args} --format json`)).out).toBe(`${JSON.stringify(tables ? tables.split(' ') : [])}\n`);
  });

  test.each<[string, string, string]>([
    ['an unknown layer', '--layer marts', 'There is no layer marts\nDid you mean mart?'],
    ['an unknown owner', '--owner "dues offices"', 'There is no owner dues offices\nDid you mean dues office?'],
    ['a target and a workspace', '--target production --workspace x', '--target and --workspace exclude each other'],
  ])('%s is wrong use', async (_, args, said) => {
    expect(await ran(`plan ${args}`)).toEqual({ code: 2, out: '', err: `ouvrage: ${said}\n` });
  });
});

test.each<[string, string, unknown]>([
  [
    'run --layer core --with-readers --param since=2026-02-01 --param a=b=c',
    'workspaces/production/runs',
    {
      tables: ['core.dim_berth', 'core.doubled'],
      upstream: false,
      downstream: true,
      parameters: { since: '2026-02-01', a: 'b=c' },
    },
  ],
  ['test --workspace dues', 'workspaces/dues/checks', { tables: [], checks: [] }],
  ['test --layer core', 'workspaces/production/checks', { tables: ['core.dim_berth'], checks: [] }],
  [
    'release a/b --message "Dues by length" --consent core.old --consent core.x.y',
    'workspaces/a%2Fb/release',
    { message: 'Dues by length', consents: ['core.old', 'core.x.y'] },
  ],
])('%s asks for it', async (args, path, body) => {
  expect((await ran(args)).code).toBe(0);
  expect(posted).toEqual([[path, body]]);
});

test('going back opens a workspace and releases it', async () => {
  expect((await ran('rollback 4 --restore --consent core.a')).out).toMatch(/^Workspace back\nRun 7: /);
  expect(posted).toEqual([
    ['releases/4/way-back', { restores: true }],
    ['workspaces/back/release', { message: 'Back to before release 4', consents: ['core.a'] }],
  ]);
});

test('a script is of the chosen tables', async () => {
  expect((await ran('script --layer core --form procedures')).out).toBe(
    '-- workspaces/production/script?tables=core.dim_berth%2Ccore.doubled&form=procedures',
  );
});

describe('worked examples', () => {
  test('of all tables that have some run, and say why they do not hold', async () => {
    expect(await ran('examples')).toEqual({
      code: 1,
      out: [
        '  core.dim_berth, one: holds',
        '  core.dim_berth, two: differs: 2 rows differ, 1 row missing, 1 row extra',
        '  mart.berths, three: failed: mart/berths.sql:2: there is no x',
        '  mart.berths, four: errors: its files or its table have errors: ouvrage check names them',
        '4 examples, 3 not as expected',
        '',
      ].join('\n'),
      err: '',
    });
    expect(posted).toEqual([
      ['workspaces/production/examples/runs', { table: 'core.dim_berth' }],
      ['workspaces/production/examples/runs', { table: 'mart.berths' }],
    ]);
  });

  test('are told as JSON and as JUnit XML; where there are none, nothing is asked', async () => {
    const [first, second] = JSON.parse((await ran('examples --layer core --format json')).out) as object[];
    expect([first, second]).toEqual([
      { table: 'core.dim_berth', name: 'one', verdict: 'holds' },
      expect.objectContaining({ name: 'two', verdict: 'differs', why: '2 rows differ, 1 row missing, 1 row extra' }),
    ]);
    expect((await ran('examples --layer core --format junit')).out).toContain(
      '<testcase classname="core.dim_berth" name="two"><failure message="differs">2 rows differ, ',
    );
    posted = [];
    expect(await ran('examples --layer staging')).toMatchObject({ code: 0, out: expect.stringMatching(/^Nothing/) });
    expect(posted).toEqual([]);
  });
});

describe('a run that is waited for', () => {
  const check = (id: string, verdict: string) => ({
    id,
    verdict,
    atFault: verdict === 'broken' ? '2' : '0',
    total: '9',
  });
  const step = (id: number, table: string, state: string, more: object = {}) => ({
    ...{ id, table, state, kind: 'load', rowsIn: null, error: null, checks: [] },
    ...more,
  });
  const run = (state: string, ...steps: object[]) => ({
    id: 7,
    kind: 'build',
    environment: 'production',
    state,
    error: null,
    steps,
  });
  const WELL = [
    run('queued', step(1, 'core.a', 'waiting')),
    run('running', step(1, 'core.a', 'done', { rowsIn: '1' }), step(2, 'core.b', 'running')),
    run(
      'succeeded',
      step(1, 'core.a', 'done', { rowsIn: '1' }),
      step(2, 'core.b', 'done', { rowsIn: '12', checks: [check('core.b/x', 'holds')] }),
    ),
  ];
  const BROKEN = [
    run(
      'failed',
      step(1, 'core.a', 'failed', {
        error: { message: 'rows at fault' },
        checks: [check('core.a/x', 'broken'), check('core.a/y', 'not run')],
      }),
      step(2, 'core.b', 'blocked'),
    ),
  ];

  test('tells each step once, and ends with how it went', async () => {
    looks = [...WELL];
    expect(await ran('run --wait')).toEqual({
      code: 0,
      out: 'Run 7: build in production, queued\n  core.a: done, 1 row\n  core.b: done, 12 rows\nRun 7: succeeded, 1 check, 0 broken\n',
      err: '',
    });
    looks = [...BROKEN];
    expect(await ran('run --wait')).toMatchObject({
      code: 1,
      out: expect.stringContaining(
        '  core.a: failed, broken: core.a/x, rows at fault\n  core.b: blocked\nRun 7: failed, 2 checks, 1 broken\n',
      ),
    });
  });

  test('as JSON: a line a step', async () => {
    looks = [...WELL];
    const lines = (await ran('run --wait --format json')).out
      .trim()
      .split('\n')
      .map((l) => JSON.parse(l) as object);
    expect(lines).toEqual([
      { run: 7, table: 'core.a', state: 'done', rows: '1', error: null },
      { run: 7, table: 'core.b', state: 'done', rows: '12', error: null },
      { run: 7, state: 'succeeded', checks: 1, broken: 0, error: null },
    ]);
  });

  test('as JUnit XML: a suite a step, with its checks', async () => {
    looks = [...BROKEN];
    const { code, out } = await ran('run --wait --format junit');
    expect([code, out.split('\n').slice(1)]).toEqual([
      1,
      [
        '<testsuites name="run 7" tests="4" failures="2" skipped="2">',
        '  <testsuite name="core.a" tests="3" failures="2" skipped="1">',
        '    <testcase classname="core.a" name="load"><failure message="rows at fault">rows at fault</failure></testcase>',
        '    <testcase classname="core.a" name="core.a/x"><failure message="2 of 9 rows at fault">2 of 9 rows at fault</failure></testcase>',
        '    <testcase classname="core.a" name="core.a/y"><skipped/></testcase>',
        '  </testsuite>',
        '  <testsuite name="core.b" tests="1" failures="0" skipped="1">',
        '    <testcase classname="core.b" name="load"><skipped/></testcase>',
        '  </testsuite>',
        '</testsuites>',
        '',
      ],
    ]);
  });
});
