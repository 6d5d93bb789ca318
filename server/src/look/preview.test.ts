import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { CastsAnswer } from '@ouvrage/api/rows';
import { definitionQuery, previewQuery } from '@ouvrage/core/keys';
import { settingsOf, withEach } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import pg from 'pg';
import {
  draft,
  runTables,
  startApplication,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';

/** Queries that are being written: run as the reader, described, held against the database. */
let application: TestApplication;
let mira: Client;

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

test('tables that read each other in a cycle are told as such wherever their rows are asked for', async () => {
  const slug = await workspace(mira, 'Round');
  await draft(mira, slug, 'staging/port.sql', () => 'select * from staging.owner');
  await draft(mira, slug, 'staging/owner.sql', () => 'select * from staging.port');
  const path = 'adhoc/x.sql';
  const look = encodeURIComponent(JSON.stringify({ table: 'staging.port', show: [], filters: [], sort: [] }));
  const asked = await Promise.all([
    mira.send('post', `/api/workspaces/${slug}/preview`, { path, text: 'select * from staging.port', limit: 5 }),
    mira.send('post', `/api/workspaces/${slug}/describe`, { path, text: 'select * from staging.port' }),
    mira.send('post', `/api/workspaces/${slug}/page`, {
      table: 'staging.port',
      show: [],
      filters: [],
      sort: [],
      limit: 5,
    }),
    mira.send('post', `/api/workspaces/${slug}/profile`, { table: 'staging.owner', production: false }),
    mira.get(`/api/workspaces/${slug}/export?format=csv&look=${look}`),
  ]);
  for (const { status, body } of asked)
    expect([status, (body as { title: string }).title]).toEqual([422, expect.stringContaining('reads itself')]);
});

describe('all rows of a query as a file', () => {
  const path = 'adhoc/soundings.sql';
  const ask = (text: string, format = 'csv', client = mira) =>
    client.send('post', '/api/workspaces/berth-dues/preview/exports', { path, text, format });
  const at = (id: string) => `/api/workspaces/berth-dues/preview/exports/${id}`;
  test.each([
    ['csv', 'n,v\r\n1,"a,b"\r\n2,\r\n', 'text/csv; charset=utf-8'],
    ['jsonl', '{"n":1,"v":"a,b"}\n{"n":2,"v":null}\n', 'application/x-ndjson; charset=utf-8'],
  ])('%s', async (format, text, type) => {
    const { body } = await ask(
      "select n, case when n = 1 then 'a,b' end as v from generate_series(1, 2) as s (n) order by n",
      format,
    );
    const file = await mira
      .get(at((body as { id: string }).id))
      .buffer(true)
      .parse((answer, done) => {
        let whole = '';
        answer.on('data', (chunk: Buffer) => (whole += chunk.toString()));
        answer.on('end', () => done(null, whole));
      });
    expect([file.body, file.headers['content-type'], file.headers['content-disposition']]).toEqual([
      text,
      type,
      `attachment; filename="soundings.${format}"`,
    ]);
  });
  test('Parquet', async () => {
    const { body } = await ask('select n from generate_series(1, 3) as s (n)', 'parquet');
    const file = await mira.get(at((body as { id: string }).id)).buffer(true);
    expect(file.headers['content-type']).toBe('application/vnd.apache.parquet');
  });
  test('is fetched once, by who asked for it', async () => {
    const { body } = await ask('select 1 as one');
    const { id } = body as { id: string };
    const vera = await application.signIn('vera');
    expect((await vera.get(at(id))).status).toBe(404);
    expect((await mira.get(`/api/workspaces/production/preview/exports/${id}`)).status).toBe(404);
    expect((await mira.get(at(id))).status).toBe(200);
    expect((await mira.get(at(id))).status).toBe(404);
    expect((await ask('select 1 as one', 'csv', vera)).status).toBe(200);
  });
  test.each([
    ['two columns of one name', 'select 1 as n, 2 as n', 'Two columns are called n'],
    ['a query that fails', 'select x from generate_series(1, 2) as s (n)', 'column "x" does not exist'],
    [
      'writing',
      'with d as (delete from core.dim_vessel returning 1 as n) select * from d',
      'WITH clause containing a data-modifying statement',
    ],
  ])('%s is told before there is a file', async (_, text, title) => {
    const answer = await ask(text);
    expect([answer.status, (answer.body as { title: string }).title]).toEqual([422, expect.stringContaining(title)]);
  });
});

describe('casts', () => {
  const ask = (text: string, casts: readonly { column: string; type: string }[], client = mira) =>
    client.send('post', '/api/workspaces/berth-dues/casts', { path: 'adhoc/x.sql', text, casts });
  const VALUES = `select v.* from (values ('2026-02-30', '12', 'x$casts$'), ('2026-03-01', 'x', null), ('gone', '1.5', 'y'), ('gone', '7', 'z')) as v (d, n, t)`;
  test('are tried on every value, and all that fail are counted with examples', async () => {
    const answer = await ask(VALUES, [
      { column: 'd', type: 'date' },
      { column: 'n', type: 'integer' },
      { column: 't', type: 'text' },
    ]);
    expect([answer.status, (answer.body as CastsAnswer).casts]).toEqual([
      200,
      [
        { column: 'd', type: 'date', failing: 3, different: 2, examples: ['gone', '2026-02-30'] },
        { column: 'n', type: 'integer', failing: 2, different: 2, examples: ['1.5', 'x'] },
        { column: 't', type: 'text', failing: 0, different: 0, examples: [] },
      ],
    ]);
  });
  test.each<[string, string, string, string]>([
    ['a type that does not exist', VALUES, 'dat', 'type "dat" does not exist'],
    ['a query that fails', 'select 1 / (n - 1) as d from generate_series(1, 2) as s (n)', 'date', 'division by zero'],
    ['a second statement', VALUES, 'date); drop table core.dim_port; select (1', 'is not the name of a type'],
    [
      'writing by the type',
      VALUES,
      "date) from pg_catalog.set_config('transaction_read_only', 'off', true",
      'is not the name of a type',
    ],
  ])('%s is told', async (_, text, type, message) => {
    const before = await warehouse('select count(*) as n from core.dim_port');
    const answer = await ask(text, [{ column: 'd', type }]);
    expect([answer.status, (answer.body as { title: string }).title]).toEqual([422, expect.stringContaining(message)]);
    expect(await warehouse('select count(*) as n from core.dim_port')).toEqual(before);
  });
});

describe('previews', () => {
  const preview = (text: string, file = 'adhoc/x.sql') =>
    mira.send('post', '/api/workspaces/berth-dues/preview', { path: file, text, limit: 10 });
  test('return columns, types and rows as text', async () => {
    const answer = await preview(
      "select 12345678901234567890.10::numeric(30,2) as n, null::text as t, true as b, '{1,2}'::int[] as a",
    );
    expect(answer.body).toMatchObject({
      columns: [
        { name: 'n', type: 'numeric(30,2)' },
        { name: 't', type: 'text' },
        { name: 'b', type: 'boolean' },
        { name: 'a', type: 'integer[]' },
      ],
      rows: [['12345678901234567890.10', null, 't', '{1,2}']],
      total: 1,
    });
  });
  test('count beyond the limit', async () =>
    expect((await preview('select g.n from generate_series(1, 25) as g (n)')).body).toMatchObject({
      total: 25,
      rows: { length: 10 },
    }));

  test.each<[string, string]>([
    ['a second statement', 'select 1 as a; drop table core.dim_vessel'],
    ['a statement that is no select', 'delete from core.dim_vessel'],
    ['writing inside a select', 'with d as (delete from core.dim_vessel returning 1) select * from d'],
    ['leaving the read-only transaction', "select set_config('transaction_read_only', 'off', true) as a"],
    ['another person’s session', 'select pg_terminate_backend(pid) as a from pg_catalog.pg_stat_activity'],
    ['locking out a swap', "select pg_advisory_lock(hashtext('ouvrage swap')) as a"],
    ['a file of the server', "select pg_read_file('/etc/passwd') as a"],
    ['a large object', 'select lo_create(1) as a'],
    ['the passwords', 'select rolpassword from pg_catalog.pg_authid'],
    ['a program', "select * from pg_catalog.pg_ls_dir('/') as f (a)"],
  ])('%s is refused', async (_, sql) => {
    const before = await warehouse('select count(*) as n from core.dim_vessel');
    const answer = await preview(sql);
    expect(answer.status).toBe(422);
    expect(await warehouse('select count(*) as n from core.dim_vessel')).toEqual(before);
  });

  test('the reader cannot reach the application’s database, nor write with plain SQL', async () => {
    const client = new pg.Client({ ...application.config.warehouse.reader, database: 'ouvrage' });
    await expect(client.connect()).rejects.toThrow(/permission denied/);
    await expect(
      warehouse('set transaction read write; insert into core.dim_port values (1)', 'reader'),
    ).rejects.toThrow(/permission denied/);
  });

  test('no role of the warehouse is a superuser, and a workspace’s cannot write production', async () => {
    expect(
      await warehouse(
        "select rolname from pg_roles where rolname like 'ouvrage%' and (rolsuper or rolcreaterole or rolcreatedb or rolbypassrls)",
      ),
    ).toEqual([]);
    await expect(warehouse('delete from core.dim_port', 'workspace')).rejects.toThrow(/permission denied/);
    await expect(warehouse('create table core.x (a int)', 'workspace')).rejects.toThrow(/permission denied/);
  });

  test('each table of the demo can be looked at before anything upstream of it is built', async () => {
    const { files } = (await mira.get('/api/workspaces/production/files')).body as { files: Record<string, string> };
    const project = readProject(new Map(Object.entries(files)));
    const placeOf = (t: string) => {
      const { kind, layer, name } = project.tables.get(t)!;
      return kind === 'definition' ? undefined : { schema: layer, name };
    };
    const refused: string[] = [];
    for (const table of project.tables.values()) {
      if (table.kind !== 'definition' || !table.query) continue;
      const names = { placeOf, functionsSchema: 'functions', settings: withEach(settingsOf(project), table) };
      const { text } = previewQuery(
        project,
        definitionQuery(project, table, names),
        project.reads.get(table.fullName)!,
        names,
      );
      await warehouse(`explain ${text}`, 'reader').catch((e: Error) => refused.push(`${table.fullName}: ${e.message}`));
    }
    expect(refused).toEqual([]);
  });

  test('functions are those of the drafts, and those of built tables stay', async () => {
    const slug = await workspace(mira, 'Preview functions');
    const text = 'select count(*) filter (where functions.hull_no_is_valid(hull_no)) as valid from staging.vessel';
    const valid = async () =>
      (await mira.send('post', `/api/workspaces/${slug}/preview`, { path: 'adhoc/x.sql', text, limit: 1 })).body;
    const built = await warehouse<{ n: string }>(
      'select count(*) filter (where hull_no_is_valid) as n from staging.vessel',
    );
    expect(Number(built[0]!.n)).toBeGreaterThan(0);
    expect(await valid()).toMatchObject({ rows: [[built[0]!.n]] });
    await draft(mira, slug, 'staging/vessel.sql', (t) => t.replace('trim(', 'upper('));
    await runTables(mira, slug, ['staging.vessel']);
    await draft(mira, slug, 'functions/hull_no_is_valid.sql', (t) =>
      t.replace(/return hull_no ~[^]*/, "return hull_no = 'none';\n"),
    );
    expect(await valid()).toMatchObject({ rows: [['0']] });
    expect(
      await warehouse(
        'select count(*) filter (where hull_no_is_valid) as n from w_preview_functions_staging.vessel',
        'workspace',
      ),
    ).toEqual(built);
    await draft(mira, slug, 'functions/hull_no_is_valid.sql', (t) =>
      t.replace("hull_no = 'none'", 'hull_number is null'),
    );
    expect(await valid()).toMatchObject({
      status: 422,
      title: expect.stringMatching(/^functions.hull_no_is_valid cannot be created: /),
      error: { path: 'functions/hull_no_is_valid.sql', line: 2 },
    });
  });

  test('an error has its line and column in the author’s text, drafts put in or not', async () => {
    const slug = await workspace(mira, 'Preview places');
    await draft(mira, slug, 'staging/port.sql', (t) => t.replace('trim(port_name)', 'upper(port_name)'));
    const text = '-- é\nselect port_code,\n       port_name::date as d\nfrom staging.port';
    const answer = await mira.send('post', `/api/workspaces/${slug}/preview`, { path: 'adhoc/x.sql', text, limit: 5 });
    expect(answer.body).toMatchObject({
      status: 422,
      title: expect.stringContaining('invalid input syntax for type date'),
      error: {
        line: 3,
        column: 8,
        path: 'adhoc/x.sql',
        detail: expect.stringMatching(/is in these rows of landing.port:$/),
        rows: { rows: { length: 1 } },
      },
    });
    const unknown = await mira.send('post', `/api/workspaces/${slug}/preview`, {
      path: 'adhoc/x.sql',
      text: text.replace('port_name::date', 'lower(port_nam)'),
      limit: 5,
    });
    expect(unknown.body).toMatchObject({ error: { line: 3, column: 14, path: 'adhoc/x.sql' } });
    const good = await mira.send('post', `/api/workspaces/${slug}/preview`, {
      path: 'adhoc/x.sql',
      text: 'select port_name from staging.port order by 1',
      limit: 1,
    });
    expect(good.body).toMatchObject({ inlined: ['staging.port'], rows: [['BRAMHAVEN']] });
  });
});

describe('a query that is being written', () => {
  const describe = async (text: string) =>
    (await mira.send('post', '/api/workspaces/berth-dues/describe', { path: 'staging/described.sql', text }))
      .body as unknown;
  test('has its columns and types asked of the database', async () => {
    expect(await describe('select call_no, round(tonnage) as whole, count(*) over () as n from staging.call')).toEqual([
      { name: 'call_no', type: 'text' },
      { name: 'whole', type: 'numeric' },
      { name: 'n', type: 'bigint' },
    ]);
  });
  test('is one statement: what is behind it is not sent', async () => {
    expect(await describe('select 1 as a; drop table core.dim_vessel')).toEqual([{ name: 'a', type: 'integer' }]);
    expect(await warehouse("select to_regclass('core.dim_vessel') is not null as there")).toEqual([{ there: true }]);
  });
  test('is refused with the place of what the database does not take', async () => {
    expect(await describe('select call_no\nfrom staging.call\nwhere tonnage > arrived_at')).toMatchObject({
      code: 'query-failed',
      title: expect.stringContaining('operator does not exist'),
      error: { path: 'staging/described.sql', line: 3, column: 15 },
    });
  });

  const validate = async (file: string, text: string) => {
    const slug = await (validated ??= workspace(mira, 'Validated'));
    return (await mira.send('post', `/api/workspaces/${slug}/validate`, { path: file, text })).body as {
      message: string;
      line: number;
      column: number;
    }[];
  };
  let validated: Promise<string> | undefined;
  const source = (only: string) =>
    `create server probe_ops foreign data wrapper postgres_fdw;\ncreate foreign table landing.probe (call_no text, tonnage numeric)\n  server probe_ops options (only '${only.replaceAll("'", "''")}');`;
  const contract = (check: string) =>
    `create table staging.probe (\n  n integer,\n  t text,\n  check (${check})\n);\nselect 1 as n, 'a' as t;`;
  test.each<[string, string, string, object[]]>([
    ['a sound query', 'staging/probe.sql', 'select call_no from staging.call', []],
    [
      'types that do not meet',
      'staging/probe.sql',
      'select call_no\nfrom staging.call\nwhere tonnage > arrived_at',
      [{ line: 3, column: 15 }],
    ],
    ['a sound condition of a source', 'sources/probe.sql', source("tonnage > 3 and call_no like 'C%'"), []],
    [
      'a source’s condition over wrong types',
      'sources/probe.sql',
      source('tonnage > call_no'),
      [{ line: 3, message: expect.stringContaining('option only of landing.probe: operator does not exist') }],
    ],
    [
      'a source’s condition that is none',
      'sources/probe.sql',
      source('tonnage + 1'),
      [{ message: expect.stringContaining('must be type boolean') }],
    ],
    ['a sound check', 'staging/probe.sql', contract('n > 0'), []],
    [
      'a check over wrong types',
      'staging/probe.sql',
      contract('n > t'),
      [{ line: 4, message: expect.stringContaining('constraint probe_check: operator does not exist') }],
    ],
    ['what the project refuses itself is not asked', 'staging/probe.sql', 'select call_noo from staging.call', []],
    ['a note', 'docs/probe.md', 'no SQL', []],
  ])('%s', async (_, file, text, expected) => expect(await validate(file, text)).toMatchObject(expected));
});

describe('a preview through tables that are not built', () => {
  const CALLED = `create table core.pilot (pilot_key bigint options (role 'surrogate key') primary key, pilot text not null, rank text options (unknown 'none'),
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag'))
with (load = history, business_key = 'pilot'`;
  const STATE = `${CALLED});\nselect pilot, rank from reference.pilot_list;`;
  const EVENTS = `${CALLED}, effective_from = 'at');\nselect pilot, rank, at::timestamptz as at from reference.pilot_list;`;
  const FACT = `create table core.boarding (no int primary key, boarded_at timestamptz,
  pilot_key bigint options (looked_up_by 'pilot', at 'boarded_at') not null references core.pilot (pilot_key)) with (load = merge, business_key = 'no');
select no::int as no, pilot, boarded_at::timestamptz as boarded_at from reference.boarding_list;`;
  const READER = `select b.no, p.rank, p.valid_from, p.valid_to, p.is_current, b.pilot_key = 0 as nobody, b.pilot_key
from core.boarding b join core.pilot p using (pilot_key) order by 1`;
  const preview = async (name: string, pilot: string) => {
    const slug = await workspace(mira, name);
    await draft(mira, slug, 'reference/pilot_list.csv', () =>
      'pilot,rank,at\nann,first,2026-01-01\nann,second,2026-02-01\nbo,first,2026-01-15\n'.replace(
        name === 'Pilots now' ? 'ann,first,2026-01-01\n' : '',
        '',
      ),
    );
    await draft(
      mira,
      slug,
      'reference/boarding_list.csv',
      () => 'no,pilot,boarded_at\n1,ann,2026-01-10\n2,ann,2026-02-10\n3,carl,2026-02-10\n4,bo,2026-01-01\n',
    );
    expect((await runTables(mira, slug, ['reference.pilot_list', 'reference.boarding_list'])).state).toBe('succeeded');
    await draft(mira, slug, 'core/pilot.sql', () => pilot);
    await draft(mira, slug, 'core/boarding.sql', () => FACT);
    const { body } = await mira.send('post', `/api/workspaces/${slug}/preview`, {
      path: 'adhoc/x.sql',
      text: READER,
      limit: 10,
    });
    return body as { columns: { name: string; standIn?: string }[]; rows: (string | null)[][]; inlined: string[] };
  };

  test('of events: versions hold from their instants on, who is not known is the unknown member', async () => {
    const { rows, columns, inlined } = await preview('Pilots then', EVENTS);
    expect(rows.map((r) => r.slice(0, 6))).toEqual([
      ['1', 'first', '2026-01-01 00:00:00+00', '2026-02-01 00:00:00+00', 'f', 'f'],
      ['2', 'second', '2026-02-01 00:00:00+00', null, 't', 'f'],
      ['3', 'none', '-infinity', null, 't', 't'],
      ['4', 'first', '2026-01-15 00:00:00+00', null, 't', 'f'],
    ]);
    expect(inlined).toEqual(['core.boarding', 'core.pilot']);
    expect(columns.filter((c) => c.standIn !== undefined).map((c) => c.name)).toEqual(['nobody', 'pilot_key']);
  });
  test('of what is so now: it stands for all time, and says so at its columns', async () => {
    const { rows, columns } = await preview('Pilots now', STATE);
    expect(rows.map((r) => r.slice(0, 3))).toEqual([
      ['1', 'second', '-infinity'],
      ['2', 'second', '-infinity'],
      ['3', 'none', '-infinity'],
      ['4', 'first', '-infinity'],
    ]);
    expect(Object.fromEntries(columns.flatMap((c) => (c.standIn === undefined ? [] : [[c.name, c.standIn]])))).toEqual({
      valid_from:
        'core.pilot is not built: versions come from past loads: the query’s current values are shown for all time',
      valid_to: expect.stringContaining('core.pilot is not built'),
      is_current: expect.stringContaining('core.pilot is not built'),
      nobody: expect.stringContaining('a hash of the business key is shown instead'),
      pilot_key: expect.stringContaining('a hash of the business key is shown instead'),
    });
  });
});
