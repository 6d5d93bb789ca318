import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { BegunExample, ExampleRow, ExampleState } from '@ouvrage/api/example';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Worked examples: loads over given rows in schemas of their own, taken back. */
let application: TestApplication;
let mira: Client;
let slug: string;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  slug = await workspace(mira, 'Examples');
});
afterAll(() => application.close());

type Files = Readonly<Record<string, string>>;
const run = async (of: string, body: object = {}) =>
  (await mira.send('post', `/api/workspaces/${of}/examples/runs`, { ...body })).body as readonly ExampleState[];
const shown = (row: ExampleRow) =>
  row.kind === 'differs'
    ? row.cells.map((at) => `${row.expected![at]} is ${row.actual![at]}`).join(', ')
    : `${row.kind}: ${(row.expected ?? row.actual)!.join('|')}`;
/** What is not as expected, in short. */
const found = ({ verdict, outcome }: ExampleState) =>
  outcome?.error
    ? [verdict, outcome.error]
    : [verdict, ...(outcome?.rows ?? []).filter((r) => r.kind !== 'same').map(shown)];

let number = 0;
/** An example of a definition of its own, run. @param files of the example, by name without `.csv` */
async function example(contract: string, query: string, files: Files): Promise<ExampleState> {
  const name = `t${++number}`;
  await draft(mira, slug, `core/${name}.sql`, () => `create table core.${name} ${contract};\n${query};\n`);
  for (const [file, text] of Object.entries(files))
    await draft(mira, slug, `examples/core.${name}/a case/${file}.csv`, () => text);
  const [state] = await run(slug, { table: `core.${name}`, name: 'a case' });
  return state!;
}

test('those of the demo hold', async () => {
  const states = await run('production');
  expect(states.map((s) => [`${s.table}: ${s.name}`, ...found(s)])).toEqual(
    states.map((s) => [`${s.table}: ${s.name}`, 'holds']),
  );
  expect(states.length).toBeGreaterThanOrEqual(5);
});

const PORT = 'port_code,port_name,flag_code\n';
const MERGE = `(
  port_key bigint options (role 'surrogate key') primary key,
  port_code text not null,
  port_name text,
  gone boolean options (role 'deleted flag') not null
) with (load = merge, business_key = 'port_code', missing_rows = flag)`;
const HISTORY = `(
  port_code text not null,
  port_name text,
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to')
) with (load = history, business_key = 'port_code', missing_rows = close)`;
const FACT = `(
  call_no text not null,
  berth_code text,
  berth_key bigint options (looked_up_by 'berth_code', at 'at', missing 'infer') not null references core.dim_berth (berth_key),
  at timestamptz
)`;
const CALLS = 'select call_no, berth_code, arrived_at as at from staging.call';

const CASES: readonly (readonly [string, { contract: string; query: string; files: Files; found: unknown[] }])[] = [
  [
    'a merge goes on from the rows before: what is missing is flagged, numbers go on',
    {
      contract: MERGE,
      query: 'select port_code, port_name from staging.port',
      files: {
        target: 'port_key,port_code,port_name\n7,A,Aber\n9,B,Borro\n',
        'input.staging.port': `${PORT}B,Borrow,\nC,Cley,\n`,
        result: 'port_key,port_code,port_name,gone\n7,A,Aber,t\n9,B,Borrow,f\n10,C,Cley,f\n',
      },
      found: ['holds'],
    },
  ],
  [
    'numbers that target.csv does not name are given in the order of the key',
    {
      contract: MERGE,
      query: 'select port_code, port_name from staging.port',
      files: {
        target: 'port_code,port_name\nB,Borro\nA,Aber\n',
        'input.staging.port': `${PORT}A,Aber,\nB,Borro,\nC,Cley,\n`,
        result: 'port_key,port_code\n1,A\n2,B\n3,C\n',
      },
      found: ['holds'],
    },
  ],
  [
    'a history of three loads: a change, then a row that is gone; each load is a day later',
    {
      contract: HISTORY,
      query: 'select port_code, port_name from staging.port',
      files: {
        '1.input.staging.port': `${PORT}A,Aber,\n`,
        '2.input.staging.port': `${PORT}A,Abermere,\nB,Borro,\n`,
        '3.input.staging.port': `${PORT}B,Borro,\n`,
        result:
          'port_code,port_name,valid_to\nA,Aber,2000-01-02 00:00:00+00\nA,Abermere,2000-01-03 00:00:00+00\nB,Borro,\n',
      },
      found: ['holds'],
    },
  ],
  [
    'the same with times of its own, as wrongly expected',
    {
      contract: HISTORY,
      query: 'select port_code, port_name from staging.port',
      files: {
        params: 'now\n2026-01-01\n2026-02-01\n2026-03-01\n',
        '1.input.staging.port': `${PORT}A,Aber,\n`,
        '2.input.staging.port': `${PORT}A,Abermere,\n`,
        '3.input.staging.port': `${PORT}A,Abermere,\n`,
        result: 'port_code,port_name,valid_to\nA,Aber,2026-03-01\nA,Abermere,\nZ,,\n',
      },
      found: ['differs', '2026-03-01 00:00:00+00 is 2026-02-01 00:00:00+00', 'missing: Z||'],
    },
  ],
  [
    'an append takes what is past the watermark of the rows before',
    {
      contract: `(call_no text not null, changed_at timestamptz not null) with (load = append, watermark = 'changed_at')`,
      query: 'select call_no, changed_at from staging.call',
      files: {
        target: 'call_no,changed_at\nC-1,2026-01-02 00:00:00+00\n',
        'input.staging.call': 'call_no,changed_at\nC-0,2026-01-01 00:00:00+00\nC-2,2026-01-03 00:00:00+00\n',
        result: 'call_no\nC-1\nC-2\n',
      },
      found: ['holds'],
    },
  ],
  [
    'a copy a day',
    {
      contract: `(port_code text not null, as_of date options (role 'as of') not null, primary key (port_code, as_of)) with (load = dated)`,
      query: 'select port_code, current_date as as_of from staging.port',
      files: {
        '1.input.staging.port': `${PORT}A,,\n`,
        '2.input.staging.port': `${PORT}B,,\n`,
        result: 'port_code,as_of\nA,2000-01-01\nB,2000-01-02\n',
      },
      found: ['holds'],
    },
  ],
  [
    'the time and parameters are the example’s',
    {
      contract: '(a date, b timestamptz, c text, d text)',
      query: `select current_date as a, now() - interval '1 hour' as b, extract(year from localtimestamp(0))::text as c, current_setting('param.least_tonnage') as d from staging.port`,
      files: {
        params: 'now,least_tonnage\n2026-05-06 07:08:09+00,12\n',
        'input.staging.port': `${PORT}A,,\n`,
        result: 'a,b,c,d\n2026-05-06,2026-05-06 06:08:09+00,2026,12\n',
      },
      found: ['holds'],
    },
  ],
  [
    'keys are members: of a version, unknown, and a placeholder that the load makes',
    {
      contract: FACT,
      query: CALLS,
      files: {
        'input.staging.call':
          'call_no,berth_code,arrived_at\nC-1,N1,2026-01-01\nC-2,N1,2027-01-01\nC-3,Q9,2026-01-01\nC-4,,2026-01-01\n',
        'member.core.dim_berth': 'berth_code,valid_from\nN1,2025-01-01\nN1,2026-06-01\n',
        result: 'call_no,berth_key\nC-1,N1 from 2025-01-01\nC-2,N1 from 2025-01-01\nC-3,Q9\nC-4,unknown\n',
      },
      found: ['differs', 'N1 from 2025-01-01 is N1 from 2026-06-01 00:00:00+00'],
    },
  ],
  [
    'equal rows are a multiset; rows without a key go beside the likest',
    {
      contract: '(a text, b text)',
      query: 'select port_code as a, port_name as b from staging.port',
      files: {
        'input.staging.port': `${PORT}A,x,\nA,x,\nB,y,\n`,
        result: 'a,b\nA,x\nB,z\n""\n'.replace('""\n', ''),
      },
      found: ['differs', 'z is y', 'extra: A|x'],
    },
  ],
  [
    'an empty text is no null',
    {
      contract: '(a text, b text)',
      query: `select port_code as a, nullif(port_name, '') as b from staging.port`,
      files: { 'input.staging.port': `${PORT}A,"",\n`, result: 'a,b\nA,""\n' },
      found: ['differs', ' is null'],
    },
  ],
  [
    'numbers without a scale are equal by their value',
    {
      contract: '(a numeric, b numeric(6,2), c double precision, d jsonb)',
      query: `select 1.50 as a, 1.5 as b, 0.1 + 0.2::double precision as c, '{"b":1,"a":2}'::jsonb as d from staging.port`,
      files: {
        'input.staging.port': `${PORT}A,,\n`,
        result: 'a,b,c,d\n1.5,1.5,0.30000000000000004,"{""a"": 2, ""b"": 1}"\n',
      },
      found: ['holds'],
    },
  ],
  [
    'a query that fails says where',
    {
      contract: '(a integer)',
      query: 'select 1 / (length(port_code) - 1) as a\nfrom staging.port',
      files: { 'input.staging.port': `${PORT}A,,\n`, result: 'a\n' },
      found: [
        'failed',
        {
          message: 'division by zero',
          hint: 'Divide by nullif(x, 0) to get null instead.',
          path: 'core/t12.sql',
          line: 2,
        },
      ],
    },
  ],
  [
    'a load that stops says why, and in which load',
    {
      contract: MERGE,
      query: 'select port_code, port_name from staging.port',
      files: {
        '1.input.staging.port': `${PORT}A,,\n`,
        '2.input.staging.port': `${PORT}A,x,\nA,y,\n`,
        result: 'port_code\nA\n',
      },
      found: ['failed', expect.objectContaining({ load: 2, message: expect.stringContaining('port_code') })],
    },
  ],
  [
    'a value that only the database can read has its line',
    {
      contract: '(a interval)',
      query: `select '1 day'::interval as a from staging.port`,
      files: { 'input.staging.port': `${PORT}A,,\n`, result: 'a\n\n1 day\nthree fish\n' },
      found: [
        'failed',
        {
          message: 'invalid input syntax for type interval: "three fish"',
          path: 'examples/core.t14/a case/result.csv',
          line: 4,
        },
      ],
    },
  ],
];

describe('an example', () => {
  test.each(CASES)('%s', async (_, { contract, query, files, found: expected }) => {
    expect(found(await example(contract, query, files))).toEqual(expected);
  });
});

test('of a fan-out, with a row of the list', async () => {
  await draft(
    mira,
    slug,
    'core/each_port.sql',
    () =>
      `create table core.each_port (terminal_code text) with (for_each = 'reference.terminal', each_schema = 'x_{terminal_code}');
select current_setting('each.terminal_code') as terminal_code from staging.port;\n`,
  );
  await draft(mira, slug, 'examples/core.each_port/x/each.csv', () => 'terminal_code\nX\n');
  await draft(mira, slug, 'examples/core.each_port/x/input.staging.port.csv', () => `${PORT}A,,\n`);
  await draft(mira, slug, 'examples/core.each_port/x/result.csv', () => 'terminal_code\nX\n');
  const [state] = await run(slug, { table: 'core.each_port' });
  expect(found(state!)).toEqual(['holds']);
});

test('all of its loads together may take so long and no longer', async () => {
  process.env['OUVRAGE_EXAMPLE_SECONDS'] = '2';
  const slow = await example(
    '(n bigint)',
    'select count(*) as n from staging.port, generate_series(1, 30000) as a (x), generate_series(1, 30000) as b (y) where x <> y',
    { 'input.staging.port': 'port_code\nA\n', result: 'n\n' },
  );
  delete process.env['OUVRAGE_EXAMPLE_SECONDS'];
  expect(found(slow)).toEqual([
    'failed',
    { message: 'it took longer than 2 seconds', hint: 'An example needs a few rows only.' },
  ]);
});

test('only so many requests of a workspace wait for its examples', async () => {
  const asked = { table: 'staging.call' };
  const answers = await Promise.all(
    Array.from({ length: 12 }, () => mira.send('post', `/api/workspaces/${slug}/examples/runs`, asked)),
  );
  const statuses = answers.map((a) => a.status);
  expect(new Set(statuses)).toEqual(new Set([200, 429]));
  expect((await run(slug, asked)).length).toBe(1);
});

test('those that an edit concerns run by themselves once it is saved', async () => {
  const states = async () =>
    ((await mira.get(`/api/workspaces/${slug}/examples?table=staging.vessel`)).body as readonly ExampleState[])[0]!;
  expect((await states()).verdict).toBe('holds');
  await draft(mira, slug, 'staging/vessel.sql', (text) => text.replace('trim(v.vessel_name)', 'upper(v.vessel_name)'));
  for (;;) {
    const now = await states();
    if (!['not run', 'running'].includes(now.verdict)) {
      expect(found(now)).toEqual(['differs', 'Heron is  HERON ', 'Tern is TERN']);
      break;
    }
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
});

describe('begun from rows', () => {
  let own: string;
  beforeAll(async () => {
    own = await workspace(mira, 'Begun examples');
  });
  const begin = async (table: string, rows: readonly Readonly<Record<string, string | null>>[], name = 'from rows') => {
    const columns = Object.keys(rows[0] ?? {});
    return mira.send('post', `/api/workspaces/${own}/examples/begin`, {
      table,
      name,
      columns,
      rows: rows.map((r) => columns.map((c) => r[c] ?? null)),
    });
  };
  const preview = async (path: string, limit: number) => {
    const { files } = (await mira.get('/api/workspaces/production/files')).body as { files: Files };
    const text = files[path];
    const answer = await mira.send('post', '/api/workspaces/production/preview', { path, text, limit });
    const { columns, rows } = answer.body as { columns: { name: string }[]; rows: (string | null)[][] };
    return rows.map((row) => Object.fromEntries(columns.map((c, i) => [c.name, row[i] ?? null])));
  };
  test('of a fact: its call, the members of its keys; the example holds once it is saved', async () => {
    const [, row] = await preview('core/fact_call.sql', 2);
    const answer = await begin('core.fact_call', [row!]);
    expect(answer.status).toBe(200);
    const { files, notes } = answer.body as BegunExample;
    expect(notes).toEqual([]);
    expect(files.map((f) => [f.path.split('/').at(-1), f.text.split('\n').length - 2])).toEqual([
      ['input.staging.call.csv', 1],
      ['member.core.dim_vessel.csv', expect.any(Number)],
      ['member.core.dim_berth.csv', expect.any(Number)],
      ['member.core.dim_port.csv', expect.any(Number)],
      ['result.csv', 1],
    ]);
    for (const f of files) await draft(mira, own, f.path, () => f.text);
    expect((await run(own, { table: 'core.fact_call', name: 'from rows' })).map(found)).toEqual([['holds']]);
  });
  test('of a join with sums: the other side by the column that joins, all rows of a group', async () => {
    const dues = await preview('core/fact_dues.sql', 400);
    const paid = dues.find((d) => Number(d['paid']) > 0)!;
    const { files, notes } = (await begin('core.fact_dues', [paid])).body as BegunExample;
    expect(notes).toEqual([]);
    const rowsOf = (name: string) => files.find((f) => f.path.endsWith(name))!.text.split('\n').length - 2;
    expect(rowsOf('input.staging.dues_invoice.csv')).toBe(1);
    expect(rowsOf('input.core.fact_call.csv')).toBe(1);
    expect(rowsOf('input.staging.payment.csv')).toBeGreaterThanOrEqual(1);
    expect(rowsOf('result.csv')).toBe(1);
  });
  test('sensitive values are made up, the same for the same value, and said', async () => {
    const rows = await preview('core/dim_owner.sql', 3);
    const { files, notes } = (await begin('core.dim_owner', rows)).body as BegunExample;
    expect(notes).toEqual(['Values of landing.owner.owner_name are made up: they are sensitive.']);
    const texts = files.map((f) => f.text).join('');
    for (const row of rows) expect(texts).not.toContain(row['owner_name']!);
    expect(texts.match(/made up [0-9a-f]{8}/g)?.length).toBe(6);
  });
  test('without rows: some of each input', async () => {
    const { files, notes } = (await begin('staging.berth', [])).body as BegunExample;
    expect(files.map((f) => f.text.split('\n').length - 2)).toEqual([5, 5]);
    expect(notes).toEqual(['Nothing tells which rows of landing.berth were used: the first 5 are there.']);
  });
  test('of a dimension that is not built here, said and left for people to write', async () => {
    await draft(mira, own, 'staging/vessel.sql', (text) => text.replace('nullif(v.gross_t, 0)', 'v.gross_t'));
    const { files, notes } = (await begin('core.fact_call', [{ call_no: 'C-1', hull_no: 'KR-1' }], 'unbuilt'))
      .body as BegunExample;
    expect(notes).toContain('core.dim_vessel has no rows here that could be copied: run it first, or write them.');
    expect(files.map((f) => f.path.split('/').at(-1))).toContain('member.core.dim_vessel.csv');
  });
  test.each([
    ['a query without columns', 'select from landing.port'],
    ['a query over what is unknown', 'select * from core.no_such'],
  ])('%s has no example', async (name, text) => {
    const table = `staging.${name.replaceAll(' ', '_')}`;
    await draft(mira, own, `${table.replace('.', '/')}.sql`, () => text);
    const { status, body } = await begin(table, [{ code: 'A' }]);
    expect([status, (body as { code: string }).code]).toEqual([422, 'no-columns']);
  });
  test.each([
    ['a table that is no definition', { table: 'landing.berth', name: 'x' }, 404],
    ['a name that leads elsewhere', { table: 'staging.berth', name: '../x' }, 422],
    ['a name that is taken', { table: 'staging.call', name: 'arrived twice' }, 409],
  ])('refuses %s', async (_, asked, status) => {
    const answer = await mira.send('post', `/api/workspaces/${own}/examples/begin`, {
      ...asked,
      columns: [],
      rows: [],
    });
    expect(answer.status).toBe(status);
  });
});

test('with an error of its files or its definition does not run, and says so', async () => {
  await draft(mira, slug, 'examples/staging.call/arrived twice/result.csv', () => 'call_no,staus\nC-1001,arrived\n');
  expect((await run(slug, { table: 'staging.call' })).map((s) => s.verdict)).toEqual(['errors']);
});

test('nobody’s tables change, and none is left', async () => {
  const left = await warehouse<{ name: string }>(
    `select n.nspname || '.' || c.relname as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
     where n.nspname like '%~example%' and c.relkind in ('r', 'v') and c.relname not in ('loaded', 'released')`,
  );
  expect(left).toEqual([]);
  const functions = await warehouse(
    `select from pg_proc p join pg_namespace n on n.oid = p.pronamespace where n.nspname like '%~example%'`,
  );
  expect(functions).toEqual([]);
});

test('what is not there is said with the nearest name', async () => {
  const answer = await mira.send('post', `/api/workspaces/${slug}/examples/runs`, {
    table: 'staging.vessel',
    name: 'nobody mesured',
  });
  expect([answer.status, answer.body]).toMatchObject([
    404,
    { title: 'staging.vessel has no worked example nobody mesured', detail: 'did you mean nobody measured?' },
  ]);
});
