import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { LoadPlan } from '@ouvrage/core/load';
import { type Place, stagedSchema } from '@ouvrage/core/model';
import pg from 'pg';
import { Config } from '../shared/config.js';
import { connectTo, scratch } from '../testing-sql.js';
import { planCatalog, questions } from '../warehouse/catalog-questions.js';
import { Loader } from './loader.js';
import type { Going } from './swaps.js';

const SCHEMA = 'swap_test';
const BESIDE = stagedSchema(SCHEMA);
scratch(SCHEMA);
/** One whose values are as the server has them. */
const client = new pg.Client(Config.fromEnvironment().warehouse.production);
let other: pg.Client;

beforeAll(async () => {
  await client.connect();
  other = await connectTo(SCHEMA);
});
afterAll(() => Promise.all([client.end(), other.end()]));

const T = `"${SCHEMA}".t`;
/** A table, and its next state beside. */
const twoStates = () =>
  client.query(
    `drop table if exists ${T}, "${BESIDE}".t cascade; create table ${T} as select 1 as n; create table "${BESIDE}".t as select 2 as n`,
  );

async function swap(connection: pg.ClientBase, goes: Going = {}, formerly?: Place): Promise<void> {
  const loader = new Loader(connection);
  loader.begin();
  await loader.swaps.swap(
    [
      {
        target: { schema: SCHEMA, name: 't' },
        staged: { schema: BESIDE, name: 't' },
        relation: 'table',
        formerly,
      },
    ],
    goes,
  );
  await loader.conclude(['commit']);
}

/** The connection; once it has answered a question about what reads the table, `then` happens before the answer is seen. */
function answering(then: () => Promise<unknown>): pg.ClientBase {
  let answered = false;
  const query = async (...given: [string]) => {
    const result = await client.query(...given);
    if (!answered && String(given[0]).includes('execute dependents')) {
      answered = true;
      await then();
    }
    return result;
  };
  return new Proxy(client, {
    get: (of, name) => (name === 'query' ? query : Reflect.get(of, name)),
  });
}

describe('what others attached to a table', () => {
  const attached = () =>
    client.query<{ what: string }>(`select what from (
      select 'policy ' || polname || ' ' || pg_get_expr(polqual, polrelid) as what from pg_policy where polrelid = '${T}'::regclass
      union all select 'row security ' || relforcerowsecurity::text from pg_class where oid = '${T}'::regclass and relrowsecurity
      union all select 'identity ' || relreplident::text from pg_class where oid = '${T}'::regclass and relreplident <> 'd'
      union all select 'statistics ' || stxname from pg_statistic_ext where stxrelid = '${T}'::regclass
      union all select 'trigger ' || tgname || ' ' || tgenabled::text from pg_trigger where tgrelid = '${T}'::regclass and not tgisinternal
      union all select 'publication ' || pubname || coalesce(' ' || pg_get_expr(prqual, prrelid), '') from pg_publication_rel l join pg_publication p on p.oid = l.prpubid where prrelid = '${T}'::regclass
    ) as a order by 1`);

  test('survives a swap', async () => {
    await client.query(`drop table if exists ${T}, "${BESIDE}".t cascade; create table ${T} as select 1 as n, 2 as m; create table "${BESIDE}".t as select 3 as n, 4 as m;
      alter table ${T} enable row level security; create policy own_rows on ${T} for select to public using (n > 0); alter table ${T} replica identity full;
      create statistics "${SCHEMA}".together (ndistinct) on n, m from ${T};
      create or replace function "${SCHEMA}".noted() returns trigger language plpgsql as 'begin return new; end';
      create trigger noted before update on ${T} for each row execute function "${SCHEMA}".noted(); alter table ${T} disable trigger noted;
      drop publication if exists swap_test; create publication swap_test for table ${T} where (n > 0)`);
    const before = (await attached()).rows.map((r) => r.what);
    expect(before).toHaveLength(6);
    await swap(client);
    expect((await attached()).rows.map((r) => r.what)).toEqual(before);
    expect((await client.query(`select n, m from ${T}`)).rows).toEqual([{ n: 3, m: 4 }]);
    await client.query('drop publication swap_test');
  });

  test('where it cannot be made again, the rows are replaced and the table stays; with other columns the swap is refused by name', async () => {
    await client.query(`drop table if exists ${T}, "${BESIDE}".t cascade; create table ${T} as select 1 as n; create table "${BESIDE}".t as select 2 as n;
      create or replace function "${SCHEMA}".gone() returns trigger language plpgsql as 'begin return new; end'; create trigger uses_gone before update on ${T} for each row execute function "${SCHEMA}".gone()`);
    const [{ oid }] = (await client.query<{ oid: string }>(`select '${T}'::regclass::oid::text as oid`)).rows as [
      { oid: string },
    ];
    // A statement that fails as it is made again, as one does whose function its owner may not call any more.
    const failing = new Proxy(client, {
      get: (of, name) =>
        name === 'query'
          ? (text: string) =>
              typeof text === 'string' && text.includes('CREATE TRIGGER uses_gone')
                ? client.query('select 1/0')
                : client.query(text)
          : Reflect.get(of, name),
    });
    await swap(failing);
    expect((await client.query(`select n, '${T}'::regclass::oid::text as oid from ${T}`)).rows).toEqual([
      { n: 2, oid },
    ]);
    await client.query(`create table "${BESIDE}".t as select 3 as n, 4 as more`);
    await expect(swap(failing)).rejects.toThrow(/trigger swap_test.uses_gone belongs to swap_test.t/);
    await client.query('rollback');
  });
});

describe('a table that is kept', () => {
  const KEPT = `${SCHEMA} kept`;
  const keptIn = () => KEPT;
  const makeRoom = () => client.query(`drop schema if exists "${KEPT}" cascade; create schema "${KEPT}"`);
  afterAll(() => client.query(`drop schema if exists "${KEPT}" cascade`));

  test('has its rows and indexes, and nothing of what others attached or were granted: that is on the new one', async () => {
    await twoStates();
    await makeRoom();
    await client.query(`create unique index t_n on ${T} (n); grant select on ${T} to public; alter table ${T} enable row level security;
      create policy own_rows on ${T} for select to public using (n > 0); create statistics "${SCHEMA}".two (ndistinct) on n, (n + 1) from ${T}`);
    await swap(client, { keptIn });
    const { rows } = await client.query(
      `select n.nspname as schema, c.relrowsecurity as secure, c.relacl::text ~ '=r/' as open,
         (select count(*)::int from pg_policy where polrelid = c.oid) as policies, (select count(*)::int from pg_statistic_ext where stxrelid = c.oid) as statistics
       from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relname = 't' and n.nspname = any($1) order by 1`,
      [[SCHEMA, KEPT]],
    );
    expect(rows).toEqual([
      { schema: SCHEMA, secure: true, open: true, policies: 1, statistics: 1 },
      { schema: KEPT, secure: false, open: false, policies: 0, statistics: 0 },
    ]);
    expect((await client.query(`select n from "${KEPT}".t`)).rows).toEqual([{ n: 1 }]);
    expect((await client.query(`select n from ${T}`)).rows).toEqual([{ n: 2 }]);
  });

  test.each<[string, string]>([
    [
      'a foreign key',
      `alter table ${T} add primary key (n); create table "${SCHEMA}".refers (n integer references ${T})`,
    ],
    [
      'a policy of another table',
      `create table "${SCHEMA}".refers (n integer); create policy asks on "${SCHEMA}".refers using (exists (select from ${T} as t where t.n = refers.n))`,
    ],
    ['a column of the type of its rows', `create table "${SCHEMA}".refers (t ${T})`],
  ])('takes along nothing that depends on it: %s stops the swap, as where it is dropped', async (_, made) => {
    for (const goes of [{ keptIn }, {}]) {
      await client.query(`drop table if exists "${SCHEMA}".refers`);
      await twoStates();
      await makeRoom();
      await client.query(made);
      await expect(swap(client, goes)).rejects.toThrow(/depend|belongs to/);
      await client.query('rollback');
      expect((await client.query(`select n from ${T}`)).rows).toEqual([{ n: 1 }]);
    }
    await client.query(`drop table "${SCHEMA}".refers`);
  });

  test('under another name is not swapped without what others attached to it', async () => {
    const former = { schema: SCHEMA, name: 'former' };
    await client.query(`drop table if exists ${T}, "${BESIDE}".t, "${SCHEMA}".former cascade; create table "${BESIDE}".t as select 2 as n;
      create table "${SCHEMA}".former as select 1 as n; alter table "${SCHEMA}".former enable row level security`);
    await expect(swap(client, { dropped: [former] }, former)).rejects.toThrow(
      /row security swap_test.former belongs to/,
    );
    await client.query('rollback');
  });
});

test.each<[string, string, string]>([
  [
    'a view that comes to read the table meanwhile',
    'create view reads as select n + 1 as n from t',
    'select n::text from reads',
  ],
  [
    'a function that comes to return its rows',
    "create function reads() returns setof t language sql as 'select * from t'",
    'select (n + 1)::text as n from reads()',
  ],
])('%s is made again over the new table', async (_, made, asked) => {
  await twoStates();
  await swap(answering(() => other.query(made)));
  expect((await other.query(asked)).rows).toEqual([{ n: '3' }]);
});

test('what is in the way of a swap is asked of indexes, however small the catalog is', async () => {
  await twoStates();
  await planCatalog(client);
  const asked = questions(['old_relations', 'dependents'], [{ schema: SCHEMA, name: 't' }]).map((q) =>
    q.replace(/^execute/, 'explain $&'),
  );
  const plan = (
    [await client.query(`begin; ${asked.join('; ')}; rollback`)].flat() as pg.QueryResult<Record<string, string>>[]
  )
    .flatMap((r) => r.rows)
    .map((row) => row['QUERY PLAN']);
  expect(plan).toContainEqual(expect.stringContaining('Index Scan using pg_depend_reference_index'));
  expect(plan).not.toContainEqual(expect.stringContaining('Seq Scan'));
});

describe('a question that is asked while the table is finished', () => {
  /** Asks how many rows the table beside has; `finish` is what finishes it. */
  async function askAnd(finish: string) {
    await twoStates();
    const loader = new Loader(client);
    loader.begin();
    const plan = {
      target: { schema: SCHEMA, name: 't' },
      staged: { schema: BESIDE, name: 't' },
      finish: [{ kind: 'constraint', sql: finish }],
    } as unknown as LoadPlan;
    try {
      const { rows } = await loader.swaps.askAndFinish(`select count(*)::text as n from "${BESIDE}".t`, plan);
      return { rows: rows as object[], kinds: loader.ran.map((s) => s.kind) };
    } finally {
      await client.query('rollback');
    }
  }

  test.each<[string, string, string[]]>([
    ['is answered', `alter table "${BESIDE}".t add primary key (n)`, ['check', 'constraint']],
    [
      'is answered though the table cannot be finished',
      `alter table "${BESIDE}".t add primary key (no_column)`,
      ['check'],
    ],
  ])('%s', async (_, finish, kinds) => expect(await askAnd(finish)).toEqual({ rows: [{ n: '1' }], kinds }));

  test('is not asked again when someone stops it', () =>
    expect(askAnd('select pg_cancel_backend(pg_backend_pid()), pg_sleep(60)')).rejects.toMatchObject({
      cause: { code: '57014' },
    }));
});
