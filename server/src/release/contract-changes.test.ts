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

/** Releases files from a workspace of its own. @returns the run */
async function release(files: Readonly<Record<string, string | null>>, consents: string[] = []) {
  const slug = await workspace(mira, `Contracts ${++count}`);
  for (const [path, text] of Object.entries(files)) expect([path, await draft(mira, slug, path, () => text)]).toEqual([path, 200]);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'x' });
  const { body, status } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents });
  if (status !== 201) return { state: 'refused', steps: [], ...(body as { title: string; detail: string }) };
  return { title: '', detail: '', ...(await mira.ended((body as { id: number }).id)) };
}

const succeeded = async (files: Readonly<Record<string, string | null>>, consents: string[] = []) => {
  const run = await release(files, consents);
  expect([run.state, run.title, run.detail, run.steps.filter((s) => s.error).map((s) => s.error?.message)]).toEqual(['succeeded', '', '', []]);
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
      'core/member.sql': definition('code smallint not null unique, name text', 'code', 'select code::smallint as code, name from reference.member'),
      'core/visit.sql': fact('code'),
    });
    const numbers = await rows('select member_key, name from core.member where member_key <> 0 order by name');
    expect(numbers).toHaveLength(3);
    await succeeded({
      'core/member.sql': definition('code integer not null unique, name text', 'code', 'select code::integer as code, name from reference.member'),
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
    expect(await rows('select v.visit_no, m.name from core.visit v join core.member m using (member_key) order by 1')).toEqual([
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
      'core/tariff.sql': definition('rate numeric(5,1)', 'select code, at::timestamptz as at, rate::numeric(5,1) as rate from reference.tariff_event'),
    });
    const before = await rows('select tariff_no, code, rate::text, valid_from from core.tariff where tariff_no <> 0 order by 2, 4');
    expect(before).toHaveLength(3);
    // The source has forgotten the old events, and says one more, finer.
    await succeeded({
      'reference/tariff_event.csv': events('a,2026-03-01,2.125,y'),
      'core/tariff.sql': definition(
        'rate numeric(8,3), kind text',
        'select code, at::timestamptz as at, rate::numeric(8,3) as rate, kind from reference.tariff_event',
      ),
    });
    const widened = await rows('select tariff_no, code, rate::text, kind, valid_from from core.tariff where tariff_no <> 0 order by 2, 5');
    expect(widened.map((r) => [r['code'], r['rate'], r['kind']])).toEqual([
      ['a', '1.500', null],
      ['a', '2.500', null],
      ['a', '2.125', 'y'],
      ['b', '7.100', null],
    ]);
    expect(widened.filter((r) => r['rate'] !== '2.125').map((r) => r['tariff_no'])).toEqual(before.map((r) => r['tariff_no']));
    await succeeded({
      'reference/tariff_event.csv': events('b,2026-04-01,8.0625,z'),
      'core/tariff.sql': definition(
        "price numeric(8,3) options (was 'rate'), kind text",
        'select code, at::timestamptz as at, rate::numeric(8,3) as price, kind from reference.tariff_event',
      ),
    });
    expect((await rows('select code, price::text, kind from core.tariff where tariff_no <> 0 order by code, valid_from')).map((r) => Object.values(r))).toEqual(
      [
        ['a', '1.500', null],
        ['a', '2.500', null],
        ['a', '2.125', 'y'],
        ['b', '7.100', null],
        ['b', '8.063', 'z'],
      ],
    );
  });
});

describe('a table that gets another name', () => {
  const definition = (name: string, options = '') =>
    `create table core.${name} (quay_no bigint options (role 'surrogate key') primary key, code text not null unique, length integer) with (load = merge, business_key = 'code'${options});
select code, length::integer as length from reference.quay_list;\ngrant select on core.${name} to reporting;`;

  test('its rows, numbers, grants and past come along; a wrong old name is told with the nearest', async () => {
    await succeeded({ 'reference/quay_list.csv': 'code,length\nn,1\ns,2\n', 'core/quay.sql': definition('quay') });
    const before = await rows('select * from core.quay order by code');
    await warehouse(`comment on table core.quay is 'said by hand'`);
    const wrong = await release({ 'core/quay.sql': null, 'core/wharf.sql': definition('wharf', ", was = 'core.qay'") });
    expect(wrong).toMatchObject({ state: 'refused', title: expect.stringContaining('production has no table core.qay'), detail: 'did you mean core.quay?' });
    const errorsAt = async (place: string) =>
      ((await mira.get(`/api/workspaces/contracts-${count}/${place}`)).body as { errors: { path: string; message: string }[] }).errors.map((e) => [
        e.path,
        e.message,
      ]);
    expect(await errorsAt('today')).toEqual([['core/wharf.sql', 'option was: production has no table core.qay; did you mean core.quay?']]);
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
    expect(await rows(`select to_regclass('core.quay') as old, to_regclass('core."quay~keys"') as keys`)).toEqual([{ old: null, keys: null }]);
    expect(await rows(`select obj_description('core.wharf'::regclass) as said, has_table_privilege('reporting', 'core.wharf', 'select') as granted`)).toEqual([
      { said: 'said by hand', granted: true },
    ]);
    const past = (await mira.get('/api/workspaces/production/loads?table=core.wharf')).body as unknown[];
    expect(past.length).toBeGreaterThan(1);
  });
});
