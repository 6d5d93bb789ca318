import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { ComparedColumns, ComparedCounts, ComparedRows } from '@ouvrage/api/compared';
import {
  draft,
  runTables,
  startApplication,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';

/** A workspace's rows beside production's, over the API. */
let application: TestApplication;
let mira: Client;
let vera: Client;
let slug: string;

const LOCKS = (rate: string, rows: number) => `create table core.lock_fee (
  lock_key bigint options (role 'surrogate key'),
  code text not null,
  keeper text options (sensitive 'personal'),
  fee numeric(8,2) options (role 'measure'),
  loaded timestamptz options (role 'loaded at')
) with (load = merge, business_key = 'code');
select 'L' || n as code, 'Keeper ' || n as keeper, (${rate})::numeric(8,2) as fee from generate_series(1, ${rows}) n;
`;
const FACT = `create table core.passage (
  no integer primary key,
  lock text,
  lock_key bigint options (looked_up_by 'lock') references core.lock_fee (lock_key)
) with (load = rebuild);
select n as no, 'L' || (n % 3 + 1) as lock from generate_series(1, 9) n;
`;

const SEEN = (more: string) => `create table core.berths_seen (
  berth_code text not null,
  primary key (berth_code)
);
select berth_code from landing.berth ${more};
`;

beforeAll(async () => {
  application = await startApplication();
  [mira, vera] = [await application.signIn('mira'), await application.signIn('vera')];
  const first = await workspace(mira, 'Lock fees');
  await draft(mira, first, 'core/lock_fee.sql', () => LOCKS('n', 10));
  await draft(mira, first, 'core/passage.sql', () => FACT);
  await draft(mira, first, 'core/berths_seen.sql', () => SEEN(''));
  await mira.send('post', `/api/workspaces/${first}/commits`, { message: 'Fees' });
  const { body } = await mira.send('post', `/api/workspaces/${first}/release`, { message: 'Fees' });
  expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
  slug = await workspace(mira, 'Higher fees');
});
afterAll(() => application.close());

const ask = <T>(part: string, table = 'core.lock_fee', who = mira, more = '') =>
  who.get(`/api/workspaces/${slug}/compared/${part}?table=${table}${more}`) as unknown as Promise<{
    status: number;
    body: T & { code?: string };
  }>;
const counts = async (table?: string, who?: Client) => (await ask<ComparedCounts>('counts', table, who)).body;

test('what the workspace reads from production is the same, and is not read', async () =>
  expect(await counts()).toEqual({ table: 'core.lock_fee', isSame: true }));

test('what was not run, is new, or is unknown says so', async () => {
  await draft(mira, slug, 'core/lock_fee.sql', () => LOCKS('case when n > 7 then n + 0.5 else n end', 12));
  await draft(mira, slug, 'core/new_locks.sql', () => 'create table core.new_locks (n integer);\nselect 1 as n;\n');
  await runTables(mira, slug, ['core.new_locks']);
  expect((await ask('counts')).body).toMatchObject({ code: 'not-run' });
  expect((await ask('counts', 'core.new_locks')).body).toMatchObject({ code: 'new-table' });
  expect((await ask('counts', 'core.no_such')).status).toBe(404);
  expect((await mira.get('/api/workspaces/production/compared/counts?table=core.passage')).status).toBe(409);
});

// A row for the unknown lock is one of those that are equal.
test('rows are counted by kind, columns by what differs, and shown old beside new', async () => {
  await runTables(mira, slug, ['core.lock_fee', 'core.passage']);
  expect(await counts()).toMatchObject({
    isSame: false,
    there: '11',
    here: '13',
    onlyThere: '0',
    onlyHere: '2',
    equal: '8',
    different: '3',
    repeated: null,
    apart: ['lock_key', 'loaded'],
  });
  const { columns } = (await ask<ComparedColumns>('columns')).body;
  expect(columns.map((c) => [c.column, c.differ])).toEqual([
    ['fee', '3'],
    ['keeper', '0'],
  ]);
  expect(columns[0]).toMatchObject({
    numbers: { sum: { before: '55.00', after: '80.50' }, greatest: { before: '10.00', after: '12.50' } },
    frequent: [
      { before: '10.00', after: '10.50', rows: '1' },
      { before: '8.00', after: '8.50', rows: '1' },
      { before: '9.00', after: '9.50', rows: '1' },
    ],
  });
  const rows = (await ask<ComparedRows>('rows', undefined, undefined, '&kind=different&column=fee')).body;
  expect(rows).toMatchObject({ key: ['code'], columns: ['keeper', 'fee'], hasMore: false });
  expect(rows.rows).toContainEqual(['L8', 'Keeper 8', 'Keeper 8', '8.00', '8.50']);
  const only = (await ask<ComparedRows>('rows', undefined, undefined, '&kind=only%20here')).body;
  expect(only.rows.map((r) => r[0])).toEqual(['L11', 'L12']);
});

test('what was found is kept until one of the two is loaded again', async () => {
  const all = async () => [
    await counts(),
    (await ask('columns')).body,
    (await ask('rows', undefined, mira, '&kind=different')).body,
  ];
  const untimed = (answers: object[]) => answers.map((a) => ({ ...a, milliseconds: 0 }));
  const before = untimed(await all());
  // Behind the application’s back, so that only asking again would show it.
  await warehouse(`update core.lock_fee set fee = fee + 100`, 'superuser');
  expect(untimed(await all())).toEqual(before);
  await runTables(mira, slug, ['core.lock_fee']);
  expect(await counts()).toMatchObject({ different: '10' });
  await warehouse(`update core.lock_fee set fee = fee - 100`, 'superuser');
  await runTables(mira, slug, ['core.lock_fee']);
  expect(untimed(await all())).toEqual(before);
});

test('all rows of a kind are a file', async () => {
  const file = await mira.get(`/api/workspaces/${slug}/compared/export?table=core.lock_fee&kind=different`);
  expect(file.headers['content-disposition']).toContain('core.lock_fee_different.csv');
  expect(file.text.split('\r\n').slice(0, 2)).toEqual([
    'code,keeper in production,keeper here,fee in production,fee here',
    'L10,Keeper 10,Keeper 10,10.00,10.50',
  ]);
  const seen = await vera.get(`/api/workspaces/${slug}/compared/export?table=core.lock_fee&kind=different`);
  expect([seen.status, seen.text.includes('Keeper')]).toEqual([200, false]);
});

test('inputs of production that were loaded since one of the two was made are named', async () => {
  await draft(mira, slug, 'core/berths_seen.sql', () => SEEN("where berth_code > 'B'"));
  await runTables(mira, slug, ['core.berths_seen']);
  expect(await counts('core.berths_seen')).toMatchObject({ newer: [] });
  const { body } = await mira.send('post', '/api/workspaces/production/intake', { tables: ['landing.berth'] });
  expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
  expect(await counts('core.berths_seen')).toMatchObject({ newer: ['landing.berth'] });
});

test('numbers of other rows are compared by the rows that they mean', async () =>
  expect(await counts('core.passage')).toMatchObject({ equal: '9', different: '0' }));

test('a viewer sees nothing of what is sensitive, and is told what is left out', async () => {
  expect(await counts(undefined, vera)).toMatchObject({ different: '3', leftOut: ['keeper'] });
  const answers = await Promise.all([
    ask('columns', undefined, vera),
    ask('rows', undefined, vera, '&kind=different'),
    ask('rows', undefined, vera, '&kind=only%20here'),
  ]);
  for (const { status, body } of answers) {
    expect(status).toBe(200);
    expect(JSON.stringify(body)).not.toContain('Keeper');
  }
  expect((await ask('rows', undefined, vera, '&kind=different&column=keeper')).status).toBe(404);
});

test.each([
  ['no table', 'counts', '', 400],
  ['no kind', 'rows', '?table=core.lock_fee', 400],
  ['a kind that does not exist', 'rows', '?table=core.lock_fee&kind=all', 400],
])('%s is refused', async (_, part, query, status) =>
  expect((await mira.get(`/api/workspaces/${slug}/compared/${part}${query}`)).status).toBe(status),
);
