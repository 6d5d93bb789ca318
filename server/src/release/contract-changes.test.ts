import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Contracts change between releases; nothing that production holds is lost by it, and numbers mean what they meant. */
let application: TestApplication;
let mira: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

let count = 0;

interface Answers {
  readonly consents?: readonly string[];
  readonly treatments?: Readonly<Record<string, string>>;
}

/** Releases files from a workspace of its own. @returns the run */
async function release(
  files: Readonly<Record<string, string | null>>,
  { consents = [], treatments = {} }: Answers = {},
) {
  const slug = await workspace(mira, `Contracts ${++count}`);
  for (const [path, text] of Object.entries(files))
    expect([path, await draft(mira, slug, path, () => text)]).toEqual([path, 200]);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
  const { body, status } = await mira.send('post', `/api/workspaces/${slug}/release`, {
    message: 'x',
    consents,
    treatments,
  });
  if (status !== 201) return { state: 'refused', steps: [], ...(body as { title: string; detail: string }) };
  return { title: '', detail: '', ...(await mira.ended((body as { id: number }).id)) };
}

const succeeded = async (files: Readonly<Record<string, string | null>>, answers: Answers = {}) => {
  const run = await release(files, answers);
  expect([run.state, run.title, run.detail, run.steps.filter((s) => s.error).map((s) => s.error?.message)]).toEqual([
    'succeeded',
    '',
    '',
    [],
  ]);
};
const rows = (sql: string) => warehouse<Record<string, unknown>>(sql);

describe('a merge with numbered keys', () => {
  const definition = (columns: string, key: string, query: string) =>
    `create table core.member (member_key bigint options (role 'surrogate key') primary key, ${columns}) with (load = merge, business_key = '${key}');\n${query};`;
  const fact = (key: string) =>
    `create table core.visit (visit_no int primary key, member_key bigint options (looked_up_by '${key}') not null references core.member (member_key)) with (load = merge, business_key = 'visit_no');\nselect n::int as visit_no, c::bigint as ${key} from reference.visit;`;

  test('its key is widened, renamed and both; the numbers stay, and facts go on meaning them', async () => {
    await succeeded({
      'reference/member.csv': 'code,name\n1,one\n2,two\n3,three\n',
      'reference/visit.csv': 'n,c\n1,1\n2,3\n',
      'core/member.sql': definition(
        'code smallint not null unique, name text',
        'code',
        'select code::smallint as code, name from reference.member',
      ),
      'core/visit.sql': fact('code'),
    });
    const numbers = await rows('select member_key, name from core.member where member_key <> 0 order by name');
    expect(numbers).toHaveLength(3);
    await succeeded({
      'core/member.sql': definition(
        'code integer not null unique, name text',
        'code',
        'select code::integer as code, name from reference.member',
      ),
    });
    expect(await rows('select member_key, name from core.member where member_key <> 0 order by name')).toEqual(numbers);
    await succeeded({
      'reference/member.csv': 'code,name\n1,one\n2,two\n3,three\n70000,many\n',
      'core/member.sql': definition(
        "member_no bigint options (was 'code') not null unique, name text",
        'member_no',
        'select code::bigint as member_no, name from reference.member',
      ),
      'core/visit.sql': fact('member_no'),
    });
    const after = await rows('select member_key, name from core.member where member_key <> 0 order by name');
    expect(after.filter((r) => r['name'] !== 'many')).toEqual(numbers);
    expect(after).toHaveLength(4);
    expect(
      await rows('select v.visit_no, m.name from core.visit v join core.member m using (member_key) order by 1'),
    ).toEqual([
      { visit_no: 1, name: 'one' },
      { visit_no: 2, name: 'three' },
    ]);
    expect(await rows(`select count(*)::int as n from core."member~keys"`)).toEqual([{ n: 4 }]);
  });
});

describe('a history from events', () => {
  const definition = (columns: string, query: string) =>
    `create table core.tariff (tariff_no bigint options (role 'surrogate key') primary key, code text not null, ${columns},
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'code', effective_from = 'at');\n${query};`;
  const events = (...lines: string[]) => `code,at,rate,kind\n${lines.join('\n')}\n`;

  test('a column is widened, another added, then renamed: remembered events follow, nothing is rounded', async () => {
    await succeeded({
      'reference/tariff_event.csv': events('a,2026-01-01,1.5,x', 'a,2026-02-01,2.5,x', 'b,2026-01-01,7.1,x'),
      'core/tariff.sql': definition(
        'rate numeric(5,1)',
        'select code, at::timestamptz as at, rate::numeric(5,1) as rate from reference.tariff_event',
      ),
    });
    const before = await rows(
      'select tariff_no, code, rate::text, valid_from from core.tariff where tariff_no <> 0 order by 2, 4',
    );
    expect(before).toHaveLength(3);
    // The source has forgotten the old events, and says one more, finer.
    await succeeded({
      'reference/tariff_event.csv': events('a,2026-03-01,2.125,y'),
      'core/tariff.sql': definition(
        'rate numeric(8,3), kind text',
        'select code, at::timestamptz as at, rate::numeric(8,3) as rate, kind from reference.tariff_event',
      ),
    });
    const widened = await rows(
      'select tariff_no, code, rate::text, kind, valid_from from core.tariff where tariff_no <> 0 order by 2, 5',
    );
    expect(widened.map((r) => [r['code'], r['rate'], r['kind']])).toEqual([
      ['a', '1.500', null],
      ['a', '2.500', null],
      ['a', '2.125', 'y'],
      ['b', '7.100', null],
    ]);
    expect(widened.filter((r) => r['rate'] !== '2.125').map((r) => r['tariff_no'])).toEqual(
      before.map((r) => r['tariff_no']),
    );
    await succeeded({
      'reference/tariff_event.csv': events('b,2026-04-01,8.0625,z'),
      'core/tariff.sql': definition(
        "price numeric(8,3) options (was 'rate'), kind text",
        'select code, at::timestamptz as at, rate::numeric(8,3) as price, kind from reference.tariff_event',
      ),
    });
    expect(
      (
        await rows('select code, price::text, kind from core.tariff where tariff_no <> 0 order by code, valid_from')
      ).map((r) => Object.values(r)),
    ).toEqual([
      ['a', '1.500', null],
      ['a', '2.500', null],
      ['a', '2.125', 'y'],
      ['b', '7.100', null],
      ['b', '8.063', 'z'],
    ]);
  });
});

describe('a table that gets another name', () => {
  const definition = (name: string, options = '') =>
    `create table core.${name} (quay_no bigint options (role 'surrogate key') primary key, code text not null unique, length integer) with (load = merge, business_key = 'code'${options});
select code, length::integer as length from reference.quay_list;\ngrant select on core.${name} to reporting;`;

  test('its rows, numbers, grants and past come along; a wrong old name is reported with the nearest', async () => {
    await succeeded({ 'reference/quay_list.csv': 'code,length\nn,1\ns,2\n', 'core/quay.sql': definition('quay') });
    const before = await rows('select * from core.quay order by code');
    await warehouse(`comment on table core.quay is 'said by hand'`);
    const wrong = await release({ 'core/quay.sql': null, 'core/wharf.sql': definition('wharf', ", was = 'core.qay'") });
    expect(wrong).toMatchObject({
      state: 'refused',
      title: expect.stringContaining('production has no table core.qay'),
      detail: 'did you mean core.quay?',
    });
    const errorsAt = async (place: string) =>
      (
        (await mira.get(`/api/workspaces/contracts-${count}/${place}`)).body as {
          errors: { path: string; message: string }[];
        }
      ).errors.map((e) => [e.path, e.message]);
    expect(await errorsAt('today')).toEqual([
      ['core/wharf.sql', 'option was: production has no table core.qay; did you mean core.quay?'],
    ]);
    expect(await errorsAt('comparison')).toEqual(await errorsAt('today'));
    const slug = await workspace(mira, 'Renamed');
    await draft(mira, slug, 'core/quay.sql', () => null);
    await draft(mira, slug, 'core/wharf.sql', () => definition('wharf', ", was = 'core.quay'"));
    await draft(mira, slug, 'reference/quay_list.csv', () => 'code,length\ns,2\nw,3\n');
    const review = (await mira.get(`/api/workspaces/${slug}/comparison`)).body as {
      tables: { kind: string; table: string; was?: string }[];
      losses: unknown[];
    };
    expect(review.tables.filter((t) => t.table.startsWith('core.'))).toEqual([
      expect.objectContaining({ kind: 'renamed', table: 'core.wharf', was: 'core.quay' }),
    ]);
    expect(review.losses).toEqual([]);
    await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
    const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x' });
    expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
    const after = await rows('select * from core.wharf order by code');
    expect(after.filter((r) => r['code'] !== 'w')).toEqual(before);
    expect(after).toHaveLength(before.length + 1);
    expect(await rows(`select to_regclass('core.quay') as old, to_regclass('core."quay~keys"') as keys`)).toEqual([
      { old: null, keys: null },
    ]);
    expect(
      await rows(
        `select obj_description('core.wharf'::regclass) as said, has_table_privilege('reporting', 'core.wharf', 'select') as granted`,
      ),
    ).toEqual([{ said: 'said by hand', granted: true }]);
    const past = (await mira.get('/api/workspaces/production/loads?table=core.wharf')).body as unknown[];
    expect(past.length).toBeGreaterThan(1);
  });
});

describe('numbers outlive what they were given to', () => {
  const ship = (key: string, query: string) =>
    `create table core.ship (ship_key bigint options (role 'surrogate key') primary key, ${key} text not null, flag text,
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')) with (load = history, business_key = '${key}');
${query};`;

  test('a history starts over: no number comes to mean another row, and merge facts that do not keep their key are looked up again', async () => {
    const docking = `create table core.docking (docking_no int primary key, ship_key bigint options (looked_up_by 'hull') not null references core.ship (ship_key)) with (load = merge, business_key = 'docking_no');
select n::int as docking_no, hull from reference.docking_list;`;
    await succeeded({
      'reference/ship_list.csv': 'hull,flag\nh1,a\nh2,a\n',
      'reference/docking_list.csv': 'n,hull\n1,h1\n2,h2\n',
      'core/ship.sql': ship('hull', 'select hull, flag from reference.ship_list'),
      'core/docking.sql': docking,
    });
    const before = await rows('select ship_key, hull from core.ship where ship_key <> 0 order by 2');
    const slug = await workspace(mira, 'Starts over');
    await draft(mira, slug, 'core/ship.sql', () =>
      ship('hull', 'select hull, upper(flag) as flag from reference.ship_list'),
    );
    const review = (await mira.get(`/api/workspaces/${slug}/comparison`)).body as {
      migrations: { table: string; holders: unknown }[];
    };
    expect(review.migrations).toEqual([
      expect.objectContaining({ table: 'core.ship', holders: [{ table: 'core.docking', looksUpAgain: true }] }),
    ]);
    // The facts' source has forgotten the first docking.
    await succeeded(
      {
        'reference/docking_list.csv': 'n,hull\n2,h2\n',
        'core/ship.sql': ship('hull', 'select hull, upper(flag) as flag from reference.ship_list'),
      },
      { treatments: { 'core.ship': 'start over' } },
    );
    const after = await rows('select ship_key, hull from core.ship where ship_key <> 0 order by 2');
    const greatest = Math.max(...before.map((r) => Number(r['ship_key'])));
    expect(after.map((r) => r['hull'])).toEqual(['h1', 'h2']);
    expect(after.every((r) => Number(r['ship_key']) > greatest)).toBe(true);
    expect(
      await rows('select d.docking_no, s.hull from core.docking d join core.ship s using (ship_key) order by 1'),
    ).toEqual([
      { docking_no: 1, hull: 'h1' },
      { docking_no: 2, hull: 'h2' },
    ]);
    // Of another key, nothing that was known is the same member; numbers still go on above all that were given.
    const used = Math.max(...after.map((r) => Number(r['ship_key'])));
    await succeeded(
      {
        'core/docking.sql': null,
        'core/ship.sql': ship('call_sign', "select hull || '!' as call_sign, flag from reference.ship_list"),
      },
      { treatments: { 'core.ship': 'start over' }, consents: ['core.docking', 'core.ship.hull'] },
    );
    const renumbered = await rows('select ship_key from core.ship where ship_key <> 0');
    expect(renumbered).toHaveLength(2);
    expect(renumbered.every((r) => Number(r['ship_key']) > used)).toBe(true);
  });

  test('two tables whose long names begin alike remember apart', async () => {
    const name = (end: string) => `${'x'.repeat(58)}${end}`;
    const long = (end: string) =>
      `create table core.${name(end)} (no bigint options (role 'surrogate key') primary key, code text not null unique) with (load = merge, business_key = 'code');\nselect code from reference.${end}_codes;`;
    await succeeded({
      'reference/one_codes.csv': 'code\na\nb\n',
      'reference/two_codes.csv': 'code\nc\n',
      [`core/${name('one')}.sql`]: long('one'),
      [`core/${name('two')}.sql`]: long('two'),
    });
    expect(await rows(`select no, code from core.${name('two')}`)).toEqual([{ no: '1', code: 'c' }]);
    expect(await rows(`select no, code from core.${name('one')} order by no`)).toEqual([
      { no: '1', code: 'a' },
      { no: '2', code: 'b' },
    ]);
  });
});

describe('hashes', () => {
  const berth = (query: string) =>
    `create table core.mooring (mooring_key bigint options (role 'surrogate key') primary key, length numeric not null unique, span interval, note text, mark uuid options (role 'row hash')) with (load = merge, business_key = 'length', key_method = hash);
${query};`;
  const fact = `create table core.tie (tie_no int primary key, mooring_key bigint options (looked_up_by 'length') not null references core.mooring (mooring_key)) with (load = merge, business_key = 'tie_no');
select n::int as tie_no, l::numeric as length from reference.tie_list;`;

  test('equal values have equal ones; those that exist stay until a release, which makes them again together with facts', async () => {
    await succeeded({
      'reference/mooring_list.csv': 'l,s\n1.0,1 mon\n2.50,2 days\n',
      'reference/tie_list.csv': 'n,l\n1,1.00\n2,2.5\n',
      'core/mooring.sql': berth(
        'select l::numeric as length, s::interval as span, null as note from reference.mooring_list',
      ),
      'core/tie.sql': fact,
    });
    const today = await rows(
      'select length::text, mooring_key, mark from core.mooring where mooring_key <> 0 order by length',
    );
    // As a release before this one would have left it.
    const asText = (v: string) => `hashtextextended(length(${v}::text) || ':' || ${v}::text, 0)`;
    await warehouse(
      `update core.tie f set mooring_key = ${asText('m.length')} from core.mooring m where m.mooring_key = f.mooring_key and f.mooring_key <> 0`,
    );
    await warehouse(
      `update core.mooring set mooring_key = ${asText('length')}, mark = md5('old')::uuid where mooring_key <> 0`,
    );
    await warehouse(`update ouvrage.loaded set hashing = null where table_name in ('core.mooring', 'core.tie')`);
    const old = await rows(
      'select length::text, mooring_key, mark from core.mooring where mooring_key <> 0 order by length',
    );
    expect(old.map((r) => r['mooring_key'])).not.toEqual(today.map((r) => r['mooring_key']));
    // An ordinary run goes on as before.
    const run = await mira.send('post', '/api/workspaces/production/runs', {
      tables: ['core.mooring', 'core.tie'],
      upstream: false,
      downstream: false,
    });
    expect((await mira.ended((run.body as { id: number }).id)).state).toBe('succeeded');
    expect(
      await rows('select length::text, mooring_key, mark from core.mooring where mooring_key <> 0 order by length'),
    ).toEqual(old);
    const slug = await workspace(mira, 'Hashes anew');
    const changed = berth(
      `select l::numeric as length, s::interval as span, 'x' as note from reference.mooring_list where l <> '2.50'`,
    );
    await draft(mira, slug, 'core/mooring.sql', () => changed);
    const review = (await mira.get(`/api/workspaces/${slug}/comparison`)).body as { rehashes: unknown };
    expect(review.rehashes).toEqual([{ table: 'core.mooring', columns: ['mooring_key', 'mark'], facts: ['core.tie'] }]);
    // The fact's source has forgotten one row, the dimension's another: nothing that is kept points to nobody.
    await succeeded({ 'core/mooring.sql': changed, 'reference/tie_list.csv': 'n,l\n1,1.000\n' });
    const after = await rows(
      'select length::text, mooring_key, mark, note from core.mooring where mooring_key <> 0 order by length',
    );
    expect(after.map((r) => [r['length'], r['mooring_key']])).toEqual(
      today.map((r) => [r['length'], r['mooring_key']]),
    );
    expect(after[1]!['mark']).toBe(today[1]!['mark']);
    expect(
      await rows('select t.tie_no, m.length::text from core.tie t join core.mooring m using (mooring_key) order by 1'),
    ).toEqual([
      { tie_no: 1, length: '1.0' },
      { tie_no: 2, length: '2.50' },
    ]);
    expect(
      await rows(`select distinct hashing from ouvrage.loaded where table_name in ('core.mooring', 'core.tie')`),
    ).toEqual([{ hashing: 'as equal' }]);
    // The same values, written otherwise, are no change.
    const before = await rows('select xmin::text, mooring_key from core.mooring order by 2');
    await warehouse(`update reference.mooring_list set l = '1.000', s = '30 days' where l = '1.0'`);
    const again = await mira.send('post', '/api/workspaces/production/runs', {
      tables: ['core.mooring'],
      upstream: false,
      downstream: false,
    });
    expect((await mira.ended((again.body as { id: number }).id)).state).toBe('succeeded');
    expect(await rows('select xmin::text, mooring_key from core.mooring order by 2')).toEqual(before);
  });
});

describe('functions of a release', () => {
  const table = (name: string) => `create table core.${name} as select functions.${name}(1) as n;`;
  test('run in the workspace first, as who can write nothing in production; what would do more than read is refused there', async () => {
    const hidden = (name: string, body: string) =>
      `create function functions.${name}(x integer) returns integer language plpgsql stable as $$ begin ${body}; return 1; end $$;`;
    const writing = await release({
      'functions/odd_writer.sql': hidden('odd_writer', `insert into core.dim_port (port_key) values (-1)`),
      'core/odd_writer.sql': table('odd_writer'),
    });
    expect([writing.state, JSON.stringify(writing)]).toEqual([
      'failed',
      expect.stringContaining('functions.odd_writer would do more than read'),
    ]);
    expect(await rows(`select to_regprocedure('functions.odd_writer(integer)') as there`)).toEqual([{ there: null }]);
    await succeeded({
      'functions/odd_reader.sql': hidden('odd_reader', 'perform count(*) from pg_catalog.pg_class'),
      'core/odd_reader.sql': table('odd_reader'),
    });
    expect(await rows('select n from core.odd_reader')).toEqual([{ n: 1 }]);
  });
});
