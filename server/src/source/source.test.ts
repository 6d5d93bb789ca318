import type { ConnectionEntry } from '@ouvrage/api/connection';
import type { ProposedFile } from '@ouvrage/api/project';
import { afterAll, beforeAll, describe, expect, jest, test } from '@jest/globals';
import type { TodayAnswer } from '@ouvrage/api/release';
import type { SourceSystem } from '@ouvrage/api/source';
import { type Wait, waitDay } from '@ouvrage/core/watch';
import pg from 'pg';
import { DataSource } from 'typeorm';
import { ClockService } from '../run/clock.service.js';
import { startApplication, warehouse, type Client, type TestApplication } from '../testing.js';
import { HarbourService } from '../standin/harbour.service.js';

let application: TestApplication;
let mira: Client;
let admin: Client;

beforeAll(async () => {
  application = await startApplication();
  [mira, admin] = [await application.signIn('mira'), await application.signIn('admin')];
});
afterAll(() => application.close());

const harbourInput = () => {
  const { host, port, database, user } = application.config.harbour;
  return { name: 'another', host, port, database, user, tls: 'off' };
};
const connections = async () => (await admin.get('/api/connections')).body as ConnectionEntry[];
const harbour = async () => (await connections()).find((c) => c.name === 'port_ops')!;

async function query<T extends pg.QueryResultRow>(address: pg.ClientConfig, sql: string): Promise<T[]> {
  const client = new pg.Client(address);
  await client.connect();
  try {
    return (await client.query<T>(sql)).rows;
  } finally {
    await client.end();
  }
}

async function openWorkspace(name: string): Promise<string> {
  return ((await mira.send('post', '/api/workspaces', { name })).body as { slug: string }).slug;
}

async function keep(slug: string, files: readonly ProposedFile[]): Promise<void> {
  for (const { path, after } of files)
    expect(
      (await mira.send('put', `/api/workspaces/${slug}/drafts`, { path, text: after, version: 0 })).status,
    ).toBeLessThan(300);
}

async function bringIn(slug: string, tables: string[], limit?: number) {
  const { body } = await mira.send('post', `/api/workspaces/${slug}/intake`, { tables, limit });
  return mira.ended((body as { id: number }).id);
}

const moveOn = (days: number) => mira.send('post', '/api/harbour/advance', { days });

test('an administrator is told of servers that a draft declares and nobody has bound, until it is gone', async () => {
  const slug = await openWorkspace('Tides');
  const toBind = async () => ((await admin.get('/api/workspaces/production/today')).body as TodayAnswer).toBind;
  const path = 'sources/tide_office.sql';
  await keep(slug, [{ path, before: null, after: 'create server tide_office foreign data wrapper postgres_fdw;\n' }]);
  expect(await toBind()).toContainEqual({ server: 'tide_office', workspaces: [slug] });
  expect(((await mira.get('/api/workspaces/production/today')).body as TodayAnswer).toBind).toEqual([]);
  await mira.send('delete', `/api/workspaces/${slug}/drafts?path=${encodeURIComponent(path)}`);
  expect((await toBind()).map((t) => t.server)).not.toContain('tide_office');
});

describe('connections', () => {
  const known = () => ({ ...harbourInput(), password: application.config.harbour.password });
  test.each<[string, (k: ReturnType<typeof known>) => object, object]>([
    ['all right', (k) => k, { ok: true }],
    ['a wrong name', (k) => ({ ...k, host: 'nowhere.invalid' }), { ok: false, part: 'name' }],
    ['a wrong port', (k) => ({ ...k, port: 1 }), { ok: false, part: 'port' }],
    ['a wrong password', (k) => ({ ...k, password: 'guess' }), { ok: false, part: 'password' }],
    ['a wrong user', (k) => ({ ...k, user: 'nobody' }), { ok: false, part: 'password' }],
    ['a wrong database', (k) => ({ ...k, database: 'port_opz' }), { ok: false, part: 'database' }],
    ['encryption that is not there', (k) => ({ ...k, tls: 'encrypted' }), { ok: false, part: 'tls' }],
    ['another one’s database', (k) => ({ ...k, database: 'warehouse' }), { ok: false, part: 'rights' }],
    ['no password', (k) => ({ ...k, password: undefined }), { ok: false, part: 'password' }],
  ])('a test says what is wrong: %s', async (_, change, expected) => {
    const { status, body } = await admin.send('post', '/api/connections/test', change(known()));
    expect([status, body]).toMatchObject([200, expected]);
    if (!(body as { ok: boolean }).ok)
      expect(body).toMatchObject({ message: expect.any(String), remedy: expect.any(String) });
  });

  test('a kept password is used for its own machine only, and is never sent back', async () => {
    const { id } = await harbour();
    expect((await admin.send('post', '/api/connections/test', { ...harbourInput(), id })).body).toMatchObject({
      ok: true,
      tables: 12,
    });
    expect(
      (await admin.send('post', '/api/connections/test', { ...harbourInput(), host: '127.0.0.2', id })).body,
    ).toMatchObject({
      ok: false,
      part: 'password',
    });
    expect(
      (await admin.send('put', `/api/connections/${id}`, { ...harbourInput(), name: 'port_ops', host: '127.0.0.2' }))
        .status,
    ).toBe(422);
    expect(JSON.stringify(await connections())).not.toMatch(/secret|password/);
    const [stored] = await query<{ secret: string }>(
      application.config.application,
      `select secret from connection where name = 'port_ops'`,
    );
    expect(stored!.secret).not.toContain(application.config.harbour.password);
  });

  test('only an administrator makes, changes, tests, binds and deletes them', async () => {
    const { id } = await harbour();
    for (const [method, path, body] of [
      ['post', '/api/connections', known()],
      ['post', '/api/connections/test', known()],
      ['put', `/api/connections/${id}`, known()],
      ['put', '/api/connections/binding', { server: 'port_ops', environment: 'production', connection: null }],
      ['delete', `/api/connections/${id}`, undefined],
    ] as const)
      expect([path, (await mira.send(method, path, body)).status]).toEqual([path, 403]);
  });

  test('a connection can be made, bound, changed and deleted; its server is then bound to nothing', async () => {
    const made = await admin.send('post', '/api/connections', known());
    const { id } = made.body as { id: string };
    expect((await admin.send('post', '/api/connections', known())).body).toMatchObject({ code: 'name-taken' });
    await admin.send('put', '/api/connections/binding', {
      server: 'elsewhere',
      environment: 'production',
      connection: id,
    });
    expect((await connections()).find((c) => c.id === id)).toMatchObject({
      bound: [{ server: 'elsewhere', environment: 'production' }],
    });
    expect((await admin.send('put', `/api/connections/${id}`, { ...harbourInput(), name: 'renamed' })).status).toBe(
      204,
    );
    expect((await admin.send('delete', `/api/connections/${id}`)).status).toBe(204);
    expect((await connections()).some((c) => c.name === 'renamed')).toBe(false);
  });
});

describe('importing tables', () => {
  test('the catalog tells tables, estimates and what is declared; chosen ones become foreign tables', async () => {
    const slug = await openWorkspace('an import');
    const { id } = await harbour();
    await query(
      application.config.harbour,
      `create schema if not exists yard; drop table if exists yard."Crane", yard.shift;
      create table yard."Crane" ("CraneNo" integer primary key, reach_m numeric(5,1) not null); comment on table yard."Crane" is 'Lifts things.';
      create table yard.shift (crane integer references yard."Crane", "from" timestamptz, mood text); analyze yard."Crane"`,
    );
    const catalog = (await mira.get(`/api/workspaces/${slug}/catalog/${id}`)).body as {
      server: string;
      tables: { schema: string; name: string; declared: string | null; rows: number | null }[];
    };
    expect(catalog.server).toBe('port_ops');
    expect(catalog.tables.find((t) => t.name === 'calls')).toMatchObject({ schema: 'ops', declared: 'landing.call' });
    expect(catalog.tables.find((t) => t.name === 'Crane')).toMatchObject({
      declared: null,
      comment: 'Lifts things.',
      rows: 0,
    });
    const proposed = (
      await mira.send('post', `/api/workspaces/${slug}/import`, {
        connection: id,
        tables: [
          { schema: 'yard', name: 'Crane' },
          { schema: 'yard', name: 'shift' },
        ],
      })
    ).body as ProposedFile[];
    expect(proposed.map((f) => f.path)).toEqual(['sources/port_ops.sql']);
    expect(proposed[0]!.after.slice(proposed[0]!.before!.trimEnd().length).trim())
      .toBe(`create foreign table landing.crane (
  crane_no integer options (column_name 'CraneNo') not null,
  reach_m  numeric(5,1) not null,
  primary key (crane_no)
) server port_ops options (schema_name 'yard', table_name 'Crane');
comment on foreign table landing.crane is 'Lifts things.';

create foreign table landing.shift (
  crane  integer,
  "from" timestamptz,
  mood   text,
  foreign key (crane) references landing.crane (crane_no)
) server port_ops options (schema_name 'yard', table_name 'shift');`);
    await keep(slug, proposed);
    await query(application.config.harbour, `insert into yard."Crane" values (1, 40.5), (2, 12)`);
    const run = await bringIn(slug, ['landing.crane', 'landing.shift']);
    expect(run.steps.map((s) => [s.table, s.state, s.rowsOut, s.rowsIn])).toEqual([
      ['landing.crane', 'done', '2', '2'],
      ['landing.shift', 'done', '0', '0'],
    ]);
    expect((await bringIn(slug, ['landing.crane'], 1)).steps[0]).toMatchObject({ rowsOut: '1' });
  });

  test('500 tables are declared with as many questions to the system as five', async () => {
    const slug = await openWorkspace('a wide import');
    await query(
      application.config.harbour,
      `create schema if not exists wide; do $$ begin for i in 1..500 loop
        execute format('create table if not exists wide.t%s (id integer primary key, name text, at timestamptz, parent integer)', i); end loop; end $$`,
    );
    const connection = (await harbour()).id;
    const asked = jest.spyOn(pg.Client.prototype, 'query');
    const questions = async (length: number) => {
      asked.mockClear();
      const tables = Array.from({ length }, (_, i) => ({ schema: 'wide', name: `t${i + 1}` }));
      const proposed = (await mira.send('post', `/api/workspaces/${slug}/import`, { connection, tables }))
        .body as ProposedFile[];
      expect(proposed[0]!.after.match(/create foreign table landing\.t\d+ /g)).toHaveLength(length);
      // What goes on beside, in other databases, is not counted.
      return (asked.mock.contexts as unknown as pg.Client[]).filter(
        (c) => c.database === application.config.harbour.database,
      ).length;
    };
    const ofFive = await questions(5);
    expect(await questions(500)).toBe(ofFive);
    expect(ofFive).toBeGreaterThan(0);
    asked.mockRestore();
    await query(application.config.harbour, 'drop schema wide cascade');
  });
});

describe('bringing in', () => {
  const total = async (table: string) =>
    Number(
      (
        await query<{ n: string }>(
          application.config.warehouse.production,
          `select count(*) as n from landing.${table}`,
        )
      )[0]!.n,
    );
  const remote = async (table: string) =>
    Number((await query<{ n: string }>(application.config.harbour, `select count(*) as n from ops.${table}`))[0]!.n);

  test('past a watermark only what is new leaves the system, and the landing table is the same as the system’s', async () => {
    await bringIn('production', []);
    await moveOn(1);
    const run = await bringIn('production', ['landing.cargo_line', 'landing.vessel', 'landing.dues_invoice']);
    for (const [table, name] of [
      ['cargo_line', 'cargo_lines'],
      ['vessel', 'vessels'],
      ['dues_invoice', 'dues_invoices'],
    ] as const) {
      const step = run.steps.find((s) => s.table === `landing.${table}`)!;
      expect([table, step.state]).toEqual([table, 'done']);
      expect(Number(step.rowsOut)).toBeLessThan(await remote(name));
      expect(await total(table)).toBe(await remote(name));
    }
    const sum = `select sum(length(v::text)) as s, count(*) as n, max(changed_at) as m from`;
    const columns = 'hull_no, vessel_name, flag, gross_t, owner_id, built_on, scrapped_on, changed_at';
    const [landed] = await query(
      application.config.warehouse.production,
      `${sum} (select ${columns}, changed_at from landing.vessel) v(${columns}, m2)`.replace(
        ', changed_at from landing',
        ', null::text from landing',
      ),
    );
    const [there] = await query(
      application.config.harbour,
      `${sum} (select ${columns}, null::text from ops.vessels) v(${columns}, m2)`,
    );
    expect(landed).toEqual(there);
  });

  test('a filter and a limit are the declaration’s', async () => {
    const slug = await openWorkspace('filtered intake');
    const file = 'sources/port_ops.sql';
    const { files } = (await mira.get(`/api/workspaces/${slug}/files`)).body as { files: Record<string, string> };
    await keep(slug, [
      {
        path: file,
        before: null,
        after: files[file]!.replace(
          "table_name 'berths', intake 'full'",
          "table_name 'berths', only 'terminal_code = ''NQ''', limit '3'",
        ),
      },
    ]);
    expect((await bringIn(slug, ['landing.berth'])).steps[0]).toMatchObject({ state: 'done', rowsOut: '3' });
  });

  test('a failure leaves the landing table as it was, and says what failed', async () => {
    const slug = await openWorkspace('failing intake');
    await bringIn(slug, ['landing.port']);
    const file = 'sources/port_ops.sql';
    const { files } = (await mira.get(`/api/workspaces/${slug}/files`)).body as { files: Record<string, string> };
    await keep(slug, [
      {
        path: file,
        before: null,
        after: files[file]!.replace('port_name text', 'port_name integer').replace(
          "table_name 'ports'",
          "table_name 'ports', drift 'ignore'",
        ),
      },
    ]);
    const [failed] = (await bringIn(slug, ['landing.port'])).steps;
    expect(failed).toMatchObject({ state: 'failed', error: { message: expect.stringContaining('integer') } });
    const { prefix } = ((await mira.get('/api/workspaces')).body as { slug: string; prefix: string }[]).find(
      (w) => w.slug === slug,
    )!;
    expect(
      (
        await query<{ n: string }>(
          application.config.warehouse.workspace,
          `select count(*) as n from ${prefix}_landing.port`,
        )
      )[0],
    ).toEqual({
      n: String(await remote('ports')),
    });
  });

  test('drift = add keeps what an incremental source brought in, though the system has lost it, and reads on past the watermark', async () => {
    const slug = await openWorkspace('a source that grows');
    const asked = (sql: string) => query(application.config.harbour, sql);
    await asked(`drop table if exists ops.crane_log; create table ops.crane_log (log_no integer primary key, crane text); grant select on ops.crane_log to public;
      insert into ops.crane_log values (1, 'north'), (2, 'south')`);
    const file = 'sources/port_ops.sql';
    const { files } = (await mira.get(`/api/workspaces/${slug}/files`)).body as { files: Record<string, string> };
    const declared = `create foreign table landing.crane_log (log_no integer, crane text) server port_ops
      options (schema_name 'ops', table_name 'crane_log', intake 'incremental', watermark 'log_no', drift 'add');`;
    await keep(slug, [{ path: file, before: null, after: `${files[file]!}\n${declared}\n` }]);
    expect((await bringIn(slug, ['landing.crane_log'])).steps[0]).toMatchObject({ state: 'done', rowsOut: '2' });
    await asked(
      `delete from ops.crane_log where log_no = 1; alter table ops.crane_log add mood text; insert into ops.crane_log values (3, 'east', 'fair')`,
    );
    expect((await bringIn(slug, ['landing.crane_log'])).steps[0]).toMatchObject({ state: 'done', rowsOut: '1' });
    const { prefix } = ((await mira.get('/api/workspaces')).body as { slug: string; prefix: string }[]).find(
      (w) => w.slug === slug,
    )!;
    expect(
      await query(
        application.config.warehouse.workspace,
        `select log_no, crane, mood from ${prefix}_landing.crane_log order by 1`,
      ),
    ).toEqual([
      { log_no: 1, crane: 'north', mood: null },
      { log_no: 2, crane: 'south', mood: null },
      { log_no: 3, crane: 'east', mood: 'fair' },
    ]);
    await asked('drop table ops.crane_log');
  });

  test('a source is late when its newest row is older than allowed, until it is brought in', async () => {
    const late = async () =>
      (
        (await mira.get('/api/workspaces/production/sources')).body as {
          tables: { table: string; lateness: { late: boolean; allowed: string } | null }[];
        }[]
      )
        .flatMap((s) => s.tables)
        .find((t) => t.table === 'landing.call')!.lateness;
    await bringIn('production', ['landing.call']);
    expect(await late()).toMatchObject({ late: false, allowed: '36 hours' });
    await moveOn(3);
    expect(await late()).toMatchObject({ late: true });
    await bringIn('production', ['landing.call']);
    expect(await late()).toMatchObject({ late: false });
  });

  test('a source that does not say when it is late is late beyond what its past shows; an intake adds its wait', async () => {
    const ask = <T>(sql: string, values: readonly unknown[] = []): Promise<T[]> =>
      application.app.get(DataSource).query(sql, [...values]);
    const table = 'landing.berth';
    const lateness = async () =>
      ((await mira.get('/api/workspaces/production/sources')).body as SourceSystem[])
        .flatMap((s) => s.tables)
        .find((t) => t.table === table)!.lateness;
    const waits = async () =>
      (
        await ask<{ waits: Wait[] }>(
          `select waits from source_state where environment = 'production' and table_name = $1`,
          [table],
        )
      )[0]!.waits;
    const clock = application.app.get(ClockService);
    const day = waitDay((await clock.harbour())!);
    await ask(`update source_state set waits = '[]' where table_name = $1`, [table]);
    await bringIn('production', [table]);
    expect(await lateness()).toBeNull();
    const known = Array.from({ length: 20 }, (_, i) => ({ day: day - 20 + i, value: 90_000 + 600 * (i % 3) }));
    await ask('update source_state set waits = $2 where table_name = $1', [table, JSON.stringify(known)]);
    expect(await lateness()).toMatchObject({ late: false, learnedFrom: 20, allowed: '1 d 9 h' });
    await moveOn(3);
    expect(await lateness()).toMatchObject({ late: true, allowed: '1 d 9 h' });
    await bringIn('production', [table]);
    expect(await lateness()).toMatchObject({ late: false, learnedFrom: 20 });
    const last = (await waits()).at(-1)!;
    expect([last.day, last.isOutside, last.value > 2 * 86_400]).toEqual([day + 3, true, true]);
  });

  test('drift stops an intake, is shown, and is adopted; drift = add takes it in', async () => {
    const slug = await openWorkspace('a drifted source');
    const today = (await application.app.get(HarbourService).day())!.day;
    await moveOn(Math.max(1, 68 - today));
    const owners = await total('owner');
    const stopped = await bringIn('production', ['landing.owner']);
    expect(stopped.steps[0]).toMatchObject({
      state: 'failed',
      error: { message: expect.stringContaining('register_no (text)') },
    });
    expect(await total('owner')).toBe(owners);
    const compared = (await mira.send('post', `/api/workspaces/${slug}/sources/port_ops/compare`, { tables: [] }))
      .body as Record<string, { added: { name: string }[] } | null>;
    expect(Object.entries(compared).filter(([, d]) => d)).toMatchObject([
      ['landing.owner', { added: [{ name: 'register_no' }], dropped: [], retyped: [] }],
    ]);
    const proposed = (
      await mira.send('post', `/api/workspaces/${slug}/sources/port_ops/take-over`, { tables: ['landing.owner'] })
    ).body as ProposedFile[];
    expect(proposed[0]!.after).toBe(
      proposed[0]!.before!.replace(
        '  flag_code  text,\n  primary key (owner_id)',
        '  flag_code  text,\n  register_no text,\n  primary key (owner_id)',
      ),
    );
    await keep(slug, [
      {
        ...proposed[0]!,
        after: proposed[0]!.before!.replace("table_name 'owners'", "table_name 'owners', drift 'add'"),
      },
    ]);
    expect((await bringIn(slug, ['landing.owner'])).steps[0]).toMatchObject({ state: 'done' });
    const { prefix } = ((await mira.get('/api/workspaces')).body as { slug: string; prefix: string }[]).find(
      (w) => w.slug === slug,
    )!;
    expect(
      (
        await query<{ n: string }>(
          application.config.warehouse.workspace,
          `select count(register_no) as n from ${prefix}_landing.owner`,
        )
      )[0],
    ).toEqual({
      n: String(owners),
    });
  });
});

describe('releasing source tables', () => {
  test('a release brings in what it declares again, with what reads it, or nothing of it', async () => {
    const slug = await openWorkspace('a released source');
    const { id } = await harbour();
    await query(
      application.config.harbour,
      `create schema if not exists yard; drop table if exists yard.tug; create table yard.tug (tug_no integer primary key, pull_t text); insert into yard.tug values (1, '40'), (2, ' 55 ')`,
    );
    await keep(
      slug,
      (
        await mira.send('post', `/api/workspaces/${slug}/import`, {
          connection: id,
          tables: [{ schema: 'yard', name: 'tug' }],
        })
      ).body as ProposedFile[],
    );
    await keep(slug, [
      {
        path: 'staging/tug.sql',
        before: null,
        after: 'create table staging.tug as select tug_no, trim(pull_t)::integer as pull_t from landing.tug',
      },
    ]);
    expect((await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Tugs' })).status).toBe(201);
    const release = async () => {
      const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'Tugs' });
      return mira.ended((body as { id: number }).id);
    };
    await query(application.config.harbour, `insert into yard.tug values (3, 'strong')`);
    const failed = await release();
    expect(failed.state).toBe('failed');
    const there = () =>
      query<{ t: string | null }>(
        application.config.warehouse.production,
        `select to_regclass('landing.tug')::text as t`,
      );
    expect(await there()).toEqual([{ t: null }]);
    await query(application.config.harbour, `delete from yard.tug where tug_no = 3`);
    const released = await release();
    expect(
      released.steps.filter((s) => s.table.endsWith('.tug')).map((s) => [s.table, s.state, s.rowsOut, s.rowsIn]),
    ).toEqual([
      ['landing.tug', 'done', '2', '2'],
      ['staging.tug', 'done', null, '2'],
    ]);
    expect(await query(application.config.warehouse.production, 'select pull_t from staging.tug order by 1')).toEqual([
      { pull_t: 40 },
      { pull_t: 55 },
    ]);
  });
});

describe('a source table that is in the warehouse', () => {
  const declared = (columns: string, options = '') =>
    `create foreign table landing.tariff_book (${columns}) server warehouse options (schema_name 'elsewhere', table_name 'Tariffs'${options});`;
  const superuserSql = (sql: string) => warehouse<Record<string, unknown>>(sql, 'superuser');

  test('is read where it is, under its declared names and types; it is not copied', async () => {
    await superuserSql(`drop schema if exists elsewhere cascade; create schema elsewhere;
      create table elsewhere."Tariffs" ("Code" text, "Rate" numeric(4,1), hidden text);
      insert into elsewhere."Tariffs" values ('a', 1.5, 'x'), ('b', 2, 'y'), ('z', 9, 'x')`);
    const slug = await openWorkspace('Tariff book');
    const columns = `code text options (column_name 'Code') not null, rate numeric(6,2) options (column_name 'Rate')`;
    await keep(slug, [
      { path: 'sources/book.sql', before: null, after: declared(columns, `, only 'code <> ''z''', left_out 'hidden'`) },
      { path: 'staging/tariff_book.sql', before: null, after: 'select code, rate from landing.tariff_book' },
    ]);
    await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
    const refused = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents: [] });
    expect(
      (await mira.ended((refused.body as { id: number }).id)).steps.flatMap((s) => s.error?.message ?? []).join(),
    ).toContain('warehouse has no table elsewhere.Tariffs that the connection can read');
    await superuserSql(
      'grant usage on schema elsewhere to ouvrage_production; grant select on elsewhere."Tariffs" to ouvrage_production',
    );
    const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents: [] });
    const { state, steps } = await mira.ended((body as { id: number }).id);
    expect([state, steps.flatMap((s) => s.error?.message ?? [])]).toEqual(['succeeded', []]);
    expect(await superuserSql(`select code, rate::text from landing.tariff_book order by 1`)).toEqual([
      { code: 'a', rate: '1.50' },
      { code: 'b', rate: '2.00' },
    ]);
    expect(await superuserSql(`select relkind from pg_class where oid = 'landing.tariff_book'::regclass`)).toEqual([
      { relkind: 'v' },
    ]);
    // What changes there is seen at once.
    await superuserSql(`update elsewhere."Tariffs" set "Rate" = 7 where "Code" = 'b'`);
    const page = await mira.send('post', '/api/workspaces/production/page', {
      table: 'staging.tariff_book',
      show: [],
      filters: [],
      sort: [],
      limit: 10,
    });
    expect((page.body as { rows: unknown[][] }).rows).toContainEqual(['b', '7.00']);
    const systems = (await mira.get('/api/workspaces/production/sources')).body as {
      server: string;
      connection: unknown;
      tables: { table: string; rows: string }[];
    }[];
    expect(systems.find((s) => s.server === 'warehouse')).toMatchObject({
      connection: { database: 'warehouse' },
      tables: [{ table: 'landing.tariff_book', rows: '2' }],
    });
    const run = await bringIn('production', ['landing.tariff_book']);
    expect([run.state, run.steps[0]!.rowsIn]).toEqual(['succeeded', '2']);
  });

  test('is not one that the project makes', async () => {
    const slug = await openWorkspace('Own tables');
    await keep(slug, [
      {
        path: 'sources/own.sql',
        before: null,
        after:
          "create foreign table landing.own (port_code text) server warehouse options (schema_name 'core', table_name 'dim_port');",
      },
    ]);
    const { errors } = (await mira.get(`/api/workspaces/${slug}/today`)).body as { errors: { message: string }[] };
    expect(errors.map((e) => e.message)).toContainEqual(
      expect.stringContaining('landing.own is assigned to core, which is a layer of the project'),
    );
  });
});
