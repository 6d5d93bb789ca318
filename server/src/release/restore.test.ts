import { afterAll, beforeAll, describe, expect, jest, test } from '@jest/globals';
import type { Comparison, KeptCopies, ReleaseEntry, RestorePlan, WayBack } from '@ouvrage/api/release';
import type { RunEntry } from '@ouvrage/api/run';
import fc from 'fast-check';
import { RunService } from '../run/run.service.js';
import { emptyData } from '../testing-clusters.js';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';
import { RestoreService } from './restore.service.js';

/** How many worlds are played; `OUVRAGE_RESTORES=100` for the whole proof. */
const WORLDS = Number(process.env['OUVRAGE_RESTORES'] ?? 4);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 20261201);

const folder = process.env['OUVRAGE_DATA'];
let end: () => Promise<void>;
let application: TestApplication;
let [admin, jonas, vera] = [] as unknown as [Client, Client, Client];
beforeAll(async () => {
  const made = await emptyData(5743);
  end = made.end;
  process.env['OUVRAGE_DATA'] = made.data;
  application = await startApplication();
  [admin, jonas, vera] = (await Promise.all(['admin', 'jonas', 'vera'].map((name) => application.signIn(name)))) as [
    Client,
    Client,
    Client,
  ];
  await warehouse(
    `create schema feed authorization ouvrage_production; create table feed.seen (k integer, v text, at timestamptz); alter table feed.seen owner to ouvrage_production`,
    'superuser',
  );
  await see([1, 2, 3]);
  await released('Feed', { 'sources/feed.sql': FEED });
}, 180_000);
afterAll(async () => {
  await application.close();
  await end();
  process.env['OUVRAGE_DATA'] = folder;
});

const FEED = `create foreign table landing.seen (k integer not null, v text, at timestamptz not null) server warehouse options (schema_name 'feed', table_name 'seen');\n`;

type Files = Readonly<Record<string, string | null>>;
const codeOf = ({ status, body }: { status: number; body: unknown }) => (body as { code?: string }).code ?? status;

let instant = Date.parse('2026-01-01T00:00:00Z');
/** One more thing is seen of some keys. */
async function see(keys: readonly number[]): Promise<void> {
  const rows = keys.map((k) => {
    instant += 3_600_000;
    return `(${k}, 'v${instant % 7}', '${new Date(instant).toISOString()}')`;
  });
  await warehouse(`insert into feed.seen values ${rows.join(', ')}`);
}

/** Releases a workspace, with consent to all that goes or does not come back as it was. @returns the release's number */
async function release(slug: string): Promise<number> {
  const { losses, restores } = (await jonas.get(`/api/workspaces/${slug}/comparison`)).body as Comparison;
  const consents = [...losses.map((l) => l.of), ...(restores?.tables ?? []).map((t) => t.table)];
  const asked = await admin.send('post', `/api/workspaces/${slug}/release`, {
    message: slug,
    consents,
    override: 'A test.',
  });
  expect([asked.status, asked.status === 201 || asked.body]).toEqual([201, true]);
  const { id } = asked.body as { id: number };
  const { state, steps } = await admin.ended(id);
  expect([state, ...steps.flatMap((t) => (t.error ? [t.table, t.error] : []))]).toEqual(['succeeded']);
  return ((await jonas.get('/api/releases')).body as ReleaseEntry[]).find((r) => r.runId === id)!.id;
}
async function committed(name: string, files: Files): Promise<string> {
  const slug = await workspace(jonas, name);
  for (const [file, text] of Object.entries(files)) expect(await draft(jonas, slug, file, () => text)).toBe(200);
  expect((await jonas.send('post', `/api/workspaces/${slug}/commits`, { message: 'Change' })).status).toBe(201);
  return slug;
}
const released = async (name: string, files: Files) => release(await committed(name, files));
const goBack = async (id: number, as = jonas) => {
  const { body } = await as.send('post', `/api/releases/${id}/way-back`, { restores: true });
  return (body as WayBack).slug;
};
const run = async (tables: readonly string[]) => {
  const asked = await admin.send('post', '/api/workspaces/production/runs', {
    tables,
    upstream: false,
    downstream: false,
  });
  expect(await admin.ended((asked.body as { id: number }).id)).toMatchObject({ error: null, state: 'succeeded' });
};

/** Does something while no load follows a restore, so that what it put back can be seen. */
async function withoutLoads<T>(body: () => Promise<T>): Promise<T> {
  const build = jest.spyOn(application.app.get(RunService), 'build').mockResolvedValue(undefined as never);
  try {
    return await body();
  } finally {
    build.mockRestore();
  }
}

/** All rows of production's tables and what is remembered beside them, but for the greatest numbers, which never go back. Views show today's rows. */
async function held(): Promise<Record<string, string[]>> {
  const tables = await warehouse<{ place: string; name: string }>(
    `select format('%I.%I', nspname, relname) as place, relname as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
     where c.relkind = 'r' and nspname in ('core', 'mart', 'staging') and relname not like '%~last' order by 1`,
  );
  const found: Record<string, string[]> = {};
  for (const { place } of tables)
    found[place] = (await warehouse<{ row: string }>(`select t::text as row from ${place} as t order by 1`)).map(
      (r) => r.row,
    );
  found['loaded'] = (
    await warehouse<{ row: string }>(
      `select (to_jsonb(l) - 'loaded_at' - 'run_id')::text as row from ouvrage.loaded as l
       where exists (select from pg_class c where c.oid = to_regclass(table_name) and c.relkind = 'r' and (table_name like 'core.%' or table_name like 'mart.%')) order by 1`,
    )
  ).map((r) => r.row);
  return found;
}
/** The greatest numbers that were ever given, by table and map. */
const numbers = async () => {
  const tables = await warehouse<{ name: string }>(
    `select relname as name from pg_class c join pg_namespace n on n.oid = c.relnamespace where nspname = 'core' and relname like '%~last'`,
  );
  const found = new Map<string, number>();
  for (const { name } of tables)
    for (const { map, number } of await warehouse<{ map: string; number: string }>(`select * from core."${name}"`))
      found.set(`${name} ${map}`, Number(number));
  return found;
};

const POLICIES = ['rebuild', 'view', 'append', 'merge', 'history', 'events', 'dated'] as const;
type Policy = (typeof POLICIES)[number];
/** How a table is declared at some time. */
interface Shape {
  readonly policy: Policy;
  readonly table: string;
  readonly column: string;
  readonly extra: number | undefined;
  readonly was?: string;
  readonly columnWas?: string;
}

const NEWEST = 'select distinct on (s.k) s.k, s.v, s.at from landing.seen as s order by s.k, s.at desc';
function text({ policy, table, column, extra, was, columnWas }: Shape): string {
  const more = extra === undefined ? '' : `,\n  extra integer`;
  const given = extra === undefined ? '' : `, ${extra} as extra`;
  const value = `${column} text${columnWas === undefined ? '' : ` options (was '${columnWas}')`}`;
  const former = was === undefined ? '' : `, was = '${was}'`;
  const versions = `valid_from timestamptz options (role 'valid from') not null,\n  valid_to timestamptz options (role 'valid to')`;
  const key = `n bigint options (role 'surrogate key') primary key`;
  const newest = `select q.k, q.v as ${column}${given} from (${NEWEST}) as q;\n`;
  switch (policy) {
    case 'view':
      return `select q.k, q.v as ${column}${given} from (${NEWEST}) as q;\n`;
    case 'rebuild':
      return `create table ${table} (\n  ${key},\n  k integer not null,\n  ${value}${more}\n) with (load = rebuild, business_key = 'k'${former});\n${newest}`;
    case 'merge':
      return `create table ${table} (\n  ${key},\n  k integer not null,\n  ${value}${more}\n) with (load = merge, business_key = 'k'${former});\n${newest}`;
    case 'append':
      return `create table ${table} (\n  k integer not null,\n  ${value},\n  at timestamptz not null${more}\n) with (load = append, watermark = 'at'${former});\nselect s.k, s.v as ${column}, s.at${given} from landing.seen as s;\n`;
    case 'history':
      return `create table ${table} (\n  ${key},\n  k integer not null,\n  ${value}${more},\n  ${versions}\n) with (load = history, business_key = 'k'${former});\n${newest}`;
    case 'events':
      return `create table ${table} (\n  ${key},\n  k integer not null,\n  ${value}${more},\n  ${versions}\n) with (load = history, business_key = 'k', effective_from = 'at'${former});\nselect s.k, s.v as ${column}, s.at${given} from landing.seen as s;\n`;
    case 'dated':
      return `create table ${table} (\n  k integer not null,\n  ${value}${more},\n  day date options (role 'as of') not null,\n  is_current boolean options (role 'current flag')\n) with (load = dated, business_key = 'k'${former});\nselect q.k, q.v as ${column}${given}, (select max(s.at) from landing.seen as s)::date as day from (${NEWEST}) as q;\n`;
  }
}
const pathOf = (table: string) => `${table.replace('.', '/')}.sql`;

type Step =
  | { readonly kind: 'see'; readonly keys: readonly number[] }
  | { readonly kind: 'load' }
  | { readonly kind: 'release'; readonly change: 'extra' | 'rename' | 'column' | 'drop' | 'other policy' | 'reader' };
const step = fc.oneof(
  fc.record({
    kind: fc.constant('see' as const),
    keys: fc.array(fc.integer({ min: 1, max: 6 }), { minLength: 1, maxLength: 3 }),
  }),
  fc.constant<Step>({ kind: 'load' }),
  fc.record({
    kind: fc.constant('release' as const),
    change: fc.constantFrom('extra', 'rename', 'column', 'drop', 'other policy', 'reader' as const),
  }),
) as fc.Arbitrary<Step>;

describe('restore', () => {
  test(
    'puts back what was kept, in any world: each table with keys and memory, undone the same way',
    async () => {
      const worlds = fc.sample(
        fc.record({
          policy: fc.constantFrom(...POLICIES),
          before: fc.array(step, { maxLength: 2 }),
          after: fc.array(step, { minLength: 2, maxLength: 5 }),
          // What the release leaves alone comes back as it was before the first that changes it, with its loads until then.
          first: fc.constantFrom('extra', 'rename', 'column', 'drop', 'other policy' as const),
        }),
        { seed: SEED, numRuns: WORLDS },
      );
      for (const [w, world] of worlds.entries()) {
        let shape: Shape | undefined = {
          policy: world.policy,
          table: `core.w${w}`,
          column: 'v',
          extra: undefined,
        };
        const readers = new Set<string>();
        let n = 0;
        const name = () => `World ${w} ${++n}`;
        await released(name(), { [pathOf(shape.table)]: text(shape) });
        const play = async (one: Step): Promise<number | undefined> => {
          if (one.kind === 'see') await see(one.keys);
          else if (one.kind === 'load') {
            if (shape && shape.policy !== 'view') await run([shape.table]);
          } else {
            const next = changed(shape, one.change, { w, n, readers });
            if (!next) return undefined;
            shape = next.shape;
            return released(name(), next.files);
          }
          return undefined;
        };
        for (const one of world.before) await play(one);
        const before = await held();
        const back = (await play({ kind: 'release', change: shape ? world.first : 'extra' }))!;
        for (const one of world.after) await play(one);
        const [between, given] = [await held(), await numbers()];
        const plan = (await jonas.get(`/api/releases/${back}/restore`)).body as RestorePlan;
        expect([JSON.stringify(world), plan.tables.filter((t) => t.mark === 'lost')]).toEqual([
          JSON.stringify(world),
          [],
        ]);
        const withdrawn = await withoutLoads(async () => release(await goBack(back)));
        expect([JSON.stringify(world), await held()]).toEqual([JSON.stringify(world), before]);
        const present = await numbers();
        for (const [map, number] of given)
          if (present.has(map)) expect([map, present.get(map)! >= number]).toEqual([map, true]);

        await withoutLoads(async () => release(await goBack(withdrawn)));
        expect([JSON.stringify(world), await held()]).toEqual([JSON.stringify(world), between]);
      }
    },
    300_000 + WORLDS * 60_000,
  );

  test('is followed by a load of what came back, in which numbers go on from the greatest that was given', async () => {
    const shape: Shape = { policy: 'merge', table: 'core.later', column: 'v', extra: undefined };
    await warehouse('delete from feed.seen where k > 3');
    await released('Later', { 'core/later.sql': text(shape) });
    const bad = await released('Bad', { 'core/later.sql': text({ ...shape, extra: 1 }) });
    await see([11, 12]);
    await run(['core.later']);
    await warehouse('delete from feed.seen where k > 3');
    await see([13]);
    await release(await goBack(bad));
    const { body } = await jonas.get('/api/runs?environment=production');
    const [newest] = body as RunEntry[];
    expect(await admin.ended(newest!.id)).toMatchObject({ state: 'succeeded', steps: [{ table: 'core.later' }] });
    // 4 and 5 were given to 11 and 12: they are not given again.
    expect((await warehouse(`select k, n::int as n from core.later order by n`)).slice(-1)).toEqual([{ k: 13, n: 6 }]);
  });

  test('leaves a table as it is that no release has changed since, and takes the loads along of one that a later release changed', async () => {
    const [shape, other] = ['core.calm', 'core.late'].map((table): Shape => ({
      policy: 'merge',
      table,
      column: 'v',
      extra: undefined,
    })) as [Shape, Shape];
    await released('Calm', { 'core/calm.sql': text(shape), 'core/late.sql': text(other) });
    const first = await released('Beside', { 'mart/beside.sql': 'select 1 as n' });
    await see([31]);
    await run(['core.calm', 'core.late']);
    await released('Late', { 'core/late.sql': text({ ...other, extra: 1 }) });
    await withoutLoads(async () => release(await goBack(first)));
    for (const table of ['core.calm', 'core.late'])
      expect(await warehouse(`select k from ${table} where k = 31`)).toEqual([{ k: 31 }]);
  });

  test('goes through though a check is broken over what comes back', async () => {
    const shape: Shape = { policy: 'merge', table: 'core.checked', column: 'v', extra: undefined };
    await released('Checked', {
      'core/checked.sql': text(shape),
      'checks/few_seen.sql':
        'create view checks.few_seen as select c.k from core.checked as c, (select count(*) as n from landing.seen) as s where s.n > 1000;\n',
    });
    const bad = await released('Checked bad', { 'core/checked.sql': text({ ...shape, extra: 1 }) });
    await warehouse(
      `insert into feed.seen select 1, 'x', timestamptz '2025-01-01' + n * interval '1 second' from generate_series(1, 1001) as g (n)`,
    );
    await withoutLoads(async () => release(await goBack(bad)));
    await warehouse(`delete from feed.seen where at < '2026-01-01'`);
  });

  test('needs consent to what does not come back, and the definitions as they were', async () => {
    const shape: Shape = { policy: 'history', table: 'core.partly', column: 'v', extra: undefined };
    await released('Partly', { 'core/partly.sql': text(shape) });
    const bad = await released('Partly bad', { 'core/partly.sql': text({ ...shape, extra: 1 }) });
    const slug = await goBack(bad);
    const { restores, losses, migrations, keptDays } = (await jonas.get(`/api/workspaces/${slug}/comparison`))
      .body as Comparison;
    expect([losses, migrations, keptDays]).toEqual([[], [], 7]);
    expect(restores).toEqual({
      releases: [bad],
      tables: [
        {
          table: 'core.partly',
          mark: 'comes back in part',
          why: 'versions that were opened since are lost',
          rows: expect.any(String),
          bytes: expect.any(Number),
        },
      ],
    });
    const ask = () =>
      admin.send('post', `/api/workspaces/${slug}/release`, { message: 'x', consents: [], override: 'A test.' });
    expect(codeOf(await ask())).toBe('needs-consent');
    await draft(jonas, slug, 'mart/more.sql', () => 'select 1 as n');
    await jonas.send('post', `/api/workspaces/${slug}/commits`, { message: 'More' });
    expect(codeOf(await ask())).toBe('not-as-before');
    expect(codeOf(await vera.send('post', `/api/releases/${bad}/way-back`, { restores: true }))).toBe('not-allowed');
  });

  test('what others attached and were granted since stays; copies are seen by nobody', async () => {
    const shape: Shape = { policy: 'merge', table: 'core.guarded', column: 'v', extra: undefined };
    await released('Guarded', { 'core/guarded.sql': text(shape) });
    await warehouse(
      `do $$ begin create role auditor; exception when duplicate_object then null; end $$; grant select on core.guarded to auditor`,
      'superuser',
    );
    const bad = await released('Guarded bad', { 'core/guarded.sql': text({ ...shape, extra: 1 }) });
    await warehouse(
      'revoke select on core.guarded from auditor; alter table core.guarded enable row level security; create policy some_rows on core.guarded using (k > 1)',
    );
    const [copy] = await warehouse<{ place: string }>(
      `select format('%I.%I', place_schema, place_name) as place from ouvrage.kept where table_name = 'core.guarded' order by run_id desc limit 1`,
    );
    for (const role of ['reader', 'viewer', 'workspace'] as const)
      await expect(warehouse(`select * from ${copy!.place}`, role)).rejects.toThrow('permission denied');
    await release(await goBack(bad));
    expect(
      await warehouse(
        `select relrowsecurity, (select count(*)::int from pg_policy where polrelid = c.oid) as policies, has_table_privilege('auditor', c.oid, 'select') as audited
         from pg_class c where oid = 'core.guarded'::regclass`,
      ),
    ).toEqual([{ relrowsecurity: true, policies: 1, audited: false }]);
    // Workspaces copy what is remembered beside a table, too.
    expect(await warehouse('select * from core."guarded~keys"', 'workspace')).not.toEqual([]);
  });

  test.each(['ouvrage', 'ouvrage~kept_1_1'])('no layer is made of a schema that holds copies: %s', async (layer) => {
    const { files } = (await jonas.get('/api/workspaces/production/files')).body as { files: Record<string, string> };
    const slug = await committed(`Layer ${layer}`, {
      'layers.sql': `${files['layers.sql']!}\ncreate schema "${layer}";\n`,
    });
    const { body } = await admin.send('post', `/api/workspaces/${slug}/release`, { message: 'x', override: 'A test.' });
    const ended = await admin.ended((body as { id: number }).id);
    expect([ended.state, ended.error]).toEqual(['failed', expect.stringContaining('belong to Ouvrage itself')]);
  });

  test('of what has been dropped since brings the rights that it had then, by an older copy, too', async () => {
    const shape: Shape = { policy: 'merge', table: 'core.lent', column: 'v', extra: undefined };
    await released('Lent', { 'core/lent.sql': text(shape) });
    const bad = await released('Lent bad', { 'core/lent.sql': text({ ...shape, extra: 1 }) });
    await see([21]);
    await run(['core.lent']);
    const [{ most }] = (await warehouse<{ most: number }>(`select number::int as most from core."lent~last"`)) as [
      { most: number },
    ];
    await warehouse('grant select on core.lent to auditor');
    await released('Lent no more', { 'core/lent.sql': null });
    await withoutLoads(async () => release(await goBack(bad)));
    expect(await warehouse(`select has_table_privilege('auditor', 'core.lent', 'select') as audited`)).toEqual([
      { audited: true },
    ]);
    expect(await warehouse(`select number::int as most from core."lent~last"`)).toEqual([{ most }]);
  });

  test('lasts as long as the setting says; then a table that keeps rows is lost', async () => {
    const kept = async () => (await admin.get('/api/kept-copies')).body as KeptCopies;
    const shape: Shape = { policy: 'merge', table: 'core.short', column: 'v', extra: undefined };
    await released('Short', { 'core/short.sql': text(shape) });
    const bad = await released('Short bad', { 'core/short.sql': text({ ...shape, extra: 1 }) });
    const found = (await kept()).releases.find((r) => r.id === bad)!;
    expect(found).toMatchObject({ tables: ['core.short'], message: 'short-bad' });
    expect(found.bytes).toBeGreaterThan(0);
    await warehouse(`update ouvrage.kept set kept_at = kept_at - interval '8 days' where table_name = 'core.short'`);
    await application.app.get(RestoreService).sweep();
    expect((await kept()).releases.some((r) => r.id === bad)).toBe(false);
    const { tables } = (await jonas.get(`/api/releases/${bad}/restore`)).body as RestorePlan;
    expect(tables).toMatchObject([{ table: 'core.short', mark: 'lost', rows: null, bytes: null }]);

    for (const who of [jonas, vera])
      expect(codeOf(await who.send('put', '/api/kept-copies', { days: 0 }))).toBe('not-allowed');
    expect((await admin.send('put', '/api/kept-copies', { days: 0 })).status).toBe(204);
    expect(await kept()).toEqual({ days: 0, bytes: 0, releases: [] });
    expect(await warehouse(`select nspname from pg_namespace where nspname like 'ouvrage~kept%'`)).toEqual([]);
    await released('Nothing kept', { 'core/short.sql': text(shape) });
    expect((await kept()).releases).toEqual([]);
    await admin.send('put', '/api/kept-copies', { days: 7 });
  });
});

/** The files of one more release, and how the table is declared by it. */
function changed(
  shape: Shape | undefined,
  change: Extract<Step, { kind: 'release' }>['change'],
  { w, n, readers }: { readonly w: number; readonly n: number; readonly readers: Set<string> },
): { readonly shape: Shape | undefined; readonly files: Files } | undefined {
  const {
    was: _,
    columnWas: __,
    ...plain
  } = shape ?? {
    policy: 'merge' as const,
    table: `core.w${w}_again_${n}`,
    column: 'v',
    extra: undefined,
  };
  /** What reads a table goes with its name. */
  const without = (): Files => {
    const gone = Object.fromEntries([...readers].map((path) => [path, null]));
    readers.clear();
    return { ...gone, [pathOf(plain.table)]: null };
  };
  const one = (next: Shape): { shape: Shape; files: Files } => ({
    shape: next,
    files: { ...(shape && next.table !== shape.table ? without() : {}), [pathOf(next.table)]: text(next) },
  });
  if (!shape) return one(plain);
  switch (change) {
    case 'extra':
      // An event that says something else than it did is two events at one instant.
      if (plain.policy === 'events') return one({ ...plain, extra: plain.extra === undefined ? 1 : undefined });
      return one({ ...plain, extra: (plain.extra ?? 0) + 1 });
    case 'rename':
      // A view has no contract to say what it was called.
      return one({ ...plain, table: `core.w${w}_${n}`, ...(plain.policy === 'view' ? {} : { was: plain.table }) });
    case 'column':
      return one({ ...plain, column: `v${n}`, ...(plain.policy === 'view' ? {} : { columnWas: plain.column }) });
    case 'drop':
      return { shape: undefined, files: without() };
    case 'other policy':
      return one({
        ...plain,
        table: `core.w${w}_${n}`,
        policy: POLICIES[(POLICIES.indexOf(plain.policy) + 3) % POLICIES.length]!,
      });
    case 'reader': {
      const path = `mart/reads_${w}_${n}.sql`;
      readers.add(path);
      return { shape, files: { [path]: `create table mart.reads_${w}_${n} as select * from ${plain.table};\n` } };
    }
  }
}
