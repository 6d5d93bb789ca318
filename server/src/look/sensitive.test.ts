import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import pg from 'pg';
import type { AuditEntry } from '@ouvrage/api/people';
import type { PageAnswer, ProfileAnswer } from '@ouvrage/api/rows';
import {
  draft,
  runTables,
  startApplication,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';
import { withoutValues } from './viewer-answers.js';

/** What is sensitive is seen by editors, and in no way by viewers: not through the API, nor in the database. */
let application: TestApplication;
let mira: Client;
let vera: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  vera = await application.signIn('vera');
});
afterAll(() => application.close());

const PRODUCTION = '/api/workspaces/production';
const ask = (client: Client, route: string, text: string, at = PRODUCTION) =>
  client.send('post', `${at}/${route}`, {
    path: 'adhoc/x.sql',
    text,
    ...{ preview: { limit: 5 }, plan: { analyze: true }, 'preview/exports': { format: 'csv' } }[route],
    ...(route === 'casts' ? { casts: [{ column: 'n', type: 'text' }] } : {}),
  });
const told = async (client: Client, route: string, text: string, at = PRODUCTION) => {
  const { status, body } = await ask(client, route, text, at);
  return [status, (body as { title?: string }).title];
};

const REFUSED = 'core.dim_owner.owner_name is sensitive (personal): viewers do not see it';
const QUERIES: readonly (readonly [string, string])[] = [
  ['named', 'select owner_name as n from core.dim_owner'],
  ['behind an alias', 'select x.owner_name as n from core.dim_owner x'],
  ['all columns', 'select * from core.dim_owner'],
  ['a whole row', 'select o::text as n from core.dim_owner o'],
  ['in a condition', "select 1 as n from core.dim_owner where owner_name like 'A%'"],
  ['in an aggregate', 'select count(distinct owner_name) as n from core.dim_owner'],
  ['in a subquery', 'select (select max(owner_name) from core.dim_owner) as n'],
  ['in a CTE that nothing reads', 'with o as (select owner_name from core.dim_owner) select 1 as n'],
  ['by its order', 'select flag_code as n from core.dim_owner order by owner_name limit 1'],
];

describe('a query that needs it', () => {
  test.each(QUERIES)('is refused to a viewer with the reason, and run for an editor: %s', async (_, text) => {
    expect(await told(vera, 'preview', text)).toEqual([403, REFUSED]);
    expect((await ask(mira, 'preview', text)).status).toBe(200);
  });
  test.each(['anatomy', 'plan', 'describe', 'casts', 'preview/exports'])('is refused by %s, too', async (route) =>
    expect(await told(vera, route, QUERIES[0]![1])).toEqual([403, REFUSED]),
  );
  test('is allowed without it', async () => {
    const text = 'select owner_key, flag_code from core.dim_owner';
    for (const route of ['preview', 'describe', 'plan']) expect((await ask(vera, route, text)).status).toBe(200);
    expect((await ask(vera, 'anatomy', text)).text).not.toContain('failed');
  });
  test('is told where it comes from', async () => {
    const { body } = await ask(vera, 'preview', QUERIES[0]![1]);
    expect((body as { detail: string }).detail).toMatch(/^It comes from landing\.owner\.owner_name\./);
  });
});

describe('a query that hides what it needs', () => {
  test.each([
    ["select query_to_xml('select owner_name from core.dim_owner', true, false, '')::text as x"],
    ["select table_to_xml('core.dim_owner', true, false, '')::text as x"],
    ["select schema_to_xml('core', true, false, '')::text as x"],
    [
      "select query_to_xml('select most_common_vals from pg_stats where attname = ''owner_name''', true, false, '')::text as x",
    ],
  ])('gets nothing from the database: %s', async (text) => {
    const [{ name }] = (await warehouse('select owner_name as name from core.dim_owner order by 1 limit 1')) as [
      { name: string },
    ];
    const { text: answer } = await ask(vera, 'preview', text);
    expect(name.length).toBeGreaterThan(3);
    expect(answer).not.toContain(name);
  });
});

describe('a table that has it', () => {
  const LOOK = { show: [], filters: [], sort: [] };
  const names = (answer: unknown) => (answer as PageAnswer | ProfileAnswer).columns.map((c) => c.name);
  test('is shown without it, and says so', async () => {
    const ask_ = async (client: Client) =>
      (await client.send('post', `${PRODUCTION}/page`, { table: 'core.dim_owner', ...LOOK, limit: 5 })).body;
    const [seen, all] = [await ask_(vera), await ask_(mira)];
    expect(names(all)).toContain('owner_name');
    expect(names(seen)).toEqual(names(all).filter((n) => n !== 'owner_name'));
    expect([(seen as PageAnswer).leftOut, (all as PageAnswer).leftOut]).toEqual([['owner_name'], undefined]);
  });
  test('is neither filtered nor sorted by it', async () => {
    for (const look of [
      { ...LOOK, filters: [{ column: 'owner_name', op: 'contains', value: 'a' }] },
      { ...LOOK, sort: [{ column: 'owner_name', descending: false }] },
      { ...LOOK, show: ['owner_name'] },
    ])
      expect(
        (await vera.send('post', `${PRODUCTION}/page`, { table: 'core.dim_owner', ...look, limit: 5 })).status,
      ).toBe(422);
  });
  test('is profiled and exported without it', async () => {
    const profile = await vera.send('post', `${PRODUCTION}/profile`, { table: 'core.dim_owner', production: true });
    expect(names(profile.body)).not.toContain('owner_name');
    expect((profile.body as ProfileAnswer).leftOut).toEqual(['owner_name']);
    const look = encodeURIComponent(JSON.stringify({ table: 'core.dim_owner', ...LOOK }));
    const file = await vera.get(`${PRODUCTION}/export?format=jsonl&look=${look}`).buffer(true);
    expect([file.status, String(file.text ?? file.body).includes('owner_name')]).toEqual([200, false]);
  });
});

describe('in the database', () => {
  const select = (what: string, from = 'core.dim_owner') =>
    warehouse(`select ${what} from ${from} limit 1`, 'viewer').then(
      () => 'seen',
      (error: Error) => error.message,
    );
  test('the viewers’ role has no right to it', async () => {
    await ask(vera, 'preview', 'select flag_code from core.dim_owner');
    expect([await select('flag_code'), await select('owner_name'), await select('*')]).toEqual([
      'seen',
      'permission denied for table dim_owner',
      'permission denied for table dim_owner',
    ]);
  });
  test('nor to what loads remember, nor may it write', async () => {
    const { length } = await warehouse(
      `select 1 as n from pg_class c join pg_namespace n on n.oid = c.relnamespace
       where c.relkind in ('r', 'v', 'm') and n.nspname like 'ouvrage%' and has_table_privilege('ouvrage_viewer', c.oid, 'select')`,
      'superuser',
    );
    expect(length).toBe(0);
    await expect(warehouse('create temporary table x (n int)', 'viewer')).rejects.toThrow(/read-only|permission/);
    await expect(warehouse('delete from core.dim_owner', 'viewer')).rejects.toThrow(/read-only|permission/);
  });
  test('a table that somebody holds keeps nobody waiting for another', async () => {
    const holder = new pg.Client(application.config.warehouse.production);
    await holder.connect();
    try {
      await holder.query('revoke select on core.dim_port from ouvrage_viewer');
      await holder.query('begin; alter table core.dim_port set (parallel_workers = 1)');
      const held = told(vera, 'preview', 'select port_code from core.dim_port');
      expect((await ask(vera, 'preview', 'select flag_code from core.dim_owner')).status).toBe(200);
      expect(await held).toEqual([503, 'A table is being changed, so rights to it cannot be checked']);
    } finally {
      await holder.query('rollback');
      await holder.end();
    }
    const many = Array.from({ length: 3 }, () => ask(vera, 'preview', 'select port_code from core.dim_port'));
    expect((await Promise.all(many)).map((a) => a.status)).toEqual([200, 200, 200]);
  });
  test('a load gives no right back that it had', async () => {
    await warehouse('grant select on core.dim_owner to ouvrage_viewer');
    const done = await runTables(mira, 'production', ['core.dim_owner'], false, false);
    expect(done.state).toBe('succeeded');
    // What was granted by hand is gone with the swap, or is taken back before the next look.
    expect((await ask(vera, 'preview', 'select flag_code from core.dim_owner')).status).toBe(200);
    expect(await select('owner_name')).toBe('permission denied for table dim_owner');
  });
});

describe('a workspace', () => {
  test('frees nothing for viewers before it is released, whatever it declares', async () => {
    const slug = await workspace(mira, 'Freed');
    const at = `/api/workspaces/${slug}`;
    await draft(
      mira,
      slug,
      'core/people.sql',
      () =>
        "create table core.people (who text options (sensitive 'no'), flag_code text) with (load = rebuild);\nselect owner_name as who, flag_code from core.dim_owner;",
    );
    await draft(mira, slug, 'sources/port_ops.sql', (t) => t.replace(" options (sensitive 'personal')", ''));
    await draft(mira, slug, 'core/named.sql', () => 'select owner_name as who from landing.owner');
    expect((await runTables(mira, slug, ['core.people', 'core.named'])).state).toBe('succeeded');
    for (const table of ['core.people', 'core.named']) {
      const text = `select who from ${table}`;
      expect((await ask(mira, 'preview', text, at)).status).toBe(200);
      expect(await told(vera, 'preview', text, at)).toEqual([
        403,
        `${table}.who is sensitive (personal): viewers do not see it`,
      ]);
    }
    expect((await ask(vera, 'preview', 'select flag_code from core.people', at)).status).toBe(200);
    const compared = (await mira.get(`${at}/comparison`)).body as { freed: string[] };
    expect(compared.freed).toEqual(expect.arrayContaining(['landing.owner.owner_name', 'core.dim_owner.owner_name']));
  });
});

describe('answers that were kept for everybody', () => {
  const names = { sensitive: new Set(['owner_name']), known: new Set(['owner_name', 'flag_code']) };
  test.each<[string, unknown, unknown]>([
    [
      'rows at fault',
      { rows: { columns: ['flag_code', 'owner_name', 'alias'], rows: [['a', 'b', 'c']] } },
      { rows: { columns: ['flag_code'], rows: [['a']] } },
    ],
    [
      'errors',
      [
        {
          error: {
            message: 'invalid input syntax for type date: "Jo Smith"',
            detail: 'Key (owner_name)=(Jo)',
            line: 3,
          },
        },
      ],
      [{ error: { message: 'invalid input syntax for type date', line: 3 } }],
    ],
    [
      'reasons of deliveries',
      [{ file: 'a.csv', reason: 'line 3, owner_name: “Jo Smith” is too long' }],
      [{ file: 'a.csv', reason: 'line 3, owner_name: “…” is too long' }],
    ],
    ['what is neither', { a: [1, 'x', null], at: 'y' }, { a: [1, 'x', null], at: 'y' }],
    [
      'rows with types, which are read for who looks',
      { columns: [{ name: 'x' }], rows: [['b']] },
      { columns: [{ name: 'x' }], rows: [['b']] },
    ],
  ])('%s', (_, answer, expected) => expect(withoutValues(answer, names)).toEqual(expected));
});

describe('the log says who saw what is sensitive', () => {
  let admin: Client;
  const entries = async (action: string) =>
    ((await admin.get(`/api/audit?text=${encodeURIComponent(action)}`)).body as AuditEntry[]).map(
      ({ person, subject, detail }) => [person, subject, detail],
    );
  const read = () => entries('sensitive columns read');
  beforeAll(async () => {
    // What mira has looked at so far is one entry for an hour; jonas has seen nothing yet.
    mira = await application.signIn('jonas');
    admin = await application.signIn('admin');
  });

  test('by a query, once an hour; not where only columns, counts or a plan are asked for', async () => {
    const text = 'select owner_name as n, flag_code from core.dim_owner';
    const before = await read();
    for (const route of ['describe', 'plan', 'anatomy', 'preview/exports'])
      expect((await ask(mira, route, text)).status).toBeLessThan(300);
    await ask(mira, 'preview', 'select flag_code from core.dim_owner');
    await ask(vera, 'preview', text);
    expect(await read()).toEqual(before);
    for (const _ of [1, 2]) expect((await ask(mira, 'preview', text)).status).toBe(200);
    expect(await read()).toEqual([['jonas', 'core.dim_owner', { columns: ['owner_name'] }], ...before]);
  });

  test('by a table’s page, and by the rows of a step', async () => {
    const before = (await read()).length;
    const look = { table: 'landing.owner', show: [], filters: [], sort: [], limit: 1 };
    expect((await admin.send('post', `${PRODUCTION}/page`, look)).status).toBe(200);
    const text = 'select flag_code from landing.owner';
    const step = { path: 'adhoc/x.sql', text, step: 'result', look: 'rows', limit: 1 };
    expect((await mira.send('post', `${PRODUCTION}/anatomy/rows`, step)).status).toBe(200);
    const found = (await read()).slice(0, -before).map(([person, subject]) => [person, subject]);
    expect(found).toEqual([
      ['jonas', 'landing.owner'],
      ['admin', 'landing.owner'],
    ]);
  });

  test('and who took rows out as a file', async () => {
    const look = encodeURIComponent(JSON.stringify({ table: 'core.dim_owner', show: [], filters: [], sort: [] }));
    expect((await mira.get(`${PRODUCTION}/export?format=csv&look=${look}`)).status).toBe(200);
    const { body } = await ask(vera, 'preview/exports', 'select flag_code from core.dim_owner');
    expect((await vera.get(`${PRODUCTION}/preview/exports/${(body as { id: string }).id}`)).status).toBe(200);
    expect((await entries('rows exported')).slice(0, 2)).toEqual([
      ['vera', 'adhoc/x.sql', { workspace: 'production', format: 'csv' }],
      ['jonas', 'core.dim_owner', { workspace: 'production', format: 'csv' }],
    ]);
  });
});
