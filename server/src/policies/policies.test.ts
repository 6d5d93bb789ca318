import { afterAll, beforeAll, describe, expect, jest, test } from '@jest/globals';
import type pg from 'pg';
import { random, scratchSchema } from '../testing-sql.js';
import { loadsOf, written, type Loads } from './harness.js';
import { appendLoad, datedLoad, mergeLoad, stateLoad, versionsOfEvents, type MergeRules, type Row, type Value } from './models.js';

/**
 * Every policy on PostgreSQL against its plain model, over random sequences of loads. A world is one
 * sequence; worlds share a table, told apart by the first part of their keys, so that one load carries
 * a hundred of them. `OUVRAGE_WORLDS=3000` plays that many of each policy; a world that differs is printed with its seed.
 */
const SCHEMA = 'policies_test';
const WORLDS = Number(process.env['OUVRAGE_WORLDS'] ?? 200);
const TOGETHER = 100;
const LOADS = 6;
let client: pg.Client;
let close: () => Promise<void>;

beforeAll(async () => {
  ({ client, close } = await scratchSchema(SCHEMA));
});
afterAll(() => close());

const batches = (variants: number) => Array.from({ length: Math.max(1, Math.ceil(WORLDS / TOGETHER / variants)) }, (_, seed) => seed);
const hour = (n: number) => new Date(Date.UTC(2026, 0, 1, n)).toISOString().slice(0, 19).replace('T', ' ') + '+00';

interface Dice {
  readonly below: (n: number) => number;
  readonly pick: (of: readonly Value[]) => Value;
}
const dice = (seed: number): Dice => {
  const below = random(seed);
  return { below, pick: (of) => of[below(of.length)]! };
};

async function fill(columns: readonly string[], rows: readonly Row[], types = columns.map(() => 'text')): Promise<void> {
  await client.query(`drop table if exists src; create table src (${columns.map((c, i) => `"${c}" ${types[i]}`).join(', ')})`);
  if (rows.length)
    await client.query(
      `insert into src select * from unnest(${columns.map((_, i) => `$${i + 1}::${types[i]}[]`).join(', ')})`,
      columns.map((c) => rows.map((r) => r[c] ?? null)),
    );
}

const source = (columns: string) => ({
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw; create foreign table landing.src (${columns}) server s;`,
});

/** The worlds of a batch whose tables differ from their model's, with what each has. */
async function differing(columns: readonly string[], models: ReadonlyMap<number, readonly Row[]>, seed: number): Promise<unknown[]> {
  const { rows } = await client.query<Record<string, Value>>(`select split_part(key, '.', 1) as world, ${columns.join(', ')} from t`);
  const text = (r: Row) => columns.map((c) => `${c}=${r[c] ?? 'null'}`).join(' ');
  const found = new Map<number, string[]>();
  for (const r of rows) found.set(Number(r['world']), [...(found.get(Number(r['world'])) ?? []), text(r)]);
  return [...models].flatMap(([world, model]) => {
    const [has, should] = [(found.get(world) ?? []).sort(), model.map(text).sort()];
    return JSON.stringify(has) === JSON.stringify(should) ? [] : [{ seed, world, has, should }];
  });
}

const KEYS = ['a', 'b', 'c', 'd'];
const worlds = Array.from({ length: TOGETHER }, (_, w) => w);
const VALUES: readonly Value[] = ['1', '2', '3', null];

describe('merge', () => {
  const COLUMNS = ['key', 'x', 'y'];
  const variants: readonly [string, string, Omit<MergeRules, 'key' | 'columns'>][] = [
    ['all columns', '', { missing: 'keep' }],
    ['missing deleted', ', missing_rows = delete, empty = allow', { missing: 'delete' }],
    ['missing deleted, all written anew', ', missing_rows = delete, empty = allow, shape = rewrite', { missing: 'delete' }],
    ['missing flagged, all written anew', ', missing_rows = flag, empty = allow, shape = rewrite', { missing: 'flag' }],
    ['missing flagged', ', missing_rows = flag, empty = allow', { missing: 'flag' }],
    ['some columns, all written anew', ", set_columns = 'x', shape = rewrite", { missing: 'keep', set: ['x'] }],
    ['some columns', ", set_columns = 'x'", { missing: 'keep', set: ['x'] }],
    [
      'conditions',
      `, update_when = 'q.x is not null', insert_when = 'q.y is distinct from ''3''', delete_when = 'q.y = ''2'' and q.x = ''1''', missing_rows = delete, empty = allow`,
      {
        missing: 'delete',
        updateWhen: (q) => q['x'] !== null,
        insertWhen: (q) => q['y'] !== '3',
        deleteWhen: (q) => q['y'] === '2' && q['x'] === '1',
      },
    ],
  ];
  test.each(variants.flatMap(([name, options, rules]) => batches(variants.length).map((seed) => [name, seed, options, rules] as const)))(
    '%s, seed %i',
    async (_, seed, options, rules) => {
      const flag = rules.missing === 'flag';
      const loads = await loadsOf(
        client,
        SCHEMA,
        `id bigint options (role 'surrogate key') primary key, key text not null, x text, y text, mark uuid options (role 'row hash')${flag ? ", gone boolean options (role 'deleted flag')" : ''}) with (load = merge, business_key = 'key'${options})`,
        'select key, x, y from landing.src',
        source('key text, x text, y text'),
      );
      await loads.reset();
      const die = dice(seed + 1);
      const models = new Map<number, Row[]>(worlds.map((w) => [w, []]));
      const numbers = new Map<string, Value>();
      for (let load = 0; load < LOADS; load++) {
        const rows = worlds.flatMap((w) =>
          KEYS.flatMap((k): Row[] => (die.below(4) === 0 ? [] : [{ key: `${w}.${k}`, x: die.pick(VALUES), y: die.pick(VALUES) }])),
        );
        await fill(COLUMNS, rows);
        await loads.load(hour(load));
        for (const w of worlds)
          models.set(
            w,
            mergeLoad(
              models.get(w)!,
              rows.filter((r) => r['key']!.startsWith(`${w}.`)),
              { key: 'key', columns: COLUMNS, ...rules },
            ),
          );
        expect(await differing(flag ? [...COLUMNS, 'gone'] : COLUMNS, models, seed)).toEqual([]);
        for (const { key, id } of (await client.query<{ key: string; id: string }>('select key, id from t')).rows) {
          if (numbers.has(key)) expect(`${key} ${id}`).toBe(`${key} ${numbers.get(key)}`);
          numbers.set(key, id);
        }
        expect(new Set(numbers.values()).size).toBe(numbers.size);
        await soundMarks('x, y');
        const before = await written(client, 't');
        await loads.load(hour(load));
        expect(await written(client, 't')).toBe(before);
      }
    },
  );
});

const HISTORY = `id bigint options (role 'surrogate key') primary key, key text not null, v text options (on_change 'version'), w text,
  o text options (on_change 'overwrite'), k text options (on_change 'keep'),
  pv text options (on_change 'previous', previous_of 'v'), po text options (on_change 'previous', previous_of 'o'),
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'),
  is_current boolean options (role 'current flag') not null, version_no integer options (role 'version number'),
  thing bigint options (role 'durable key') not null, mark text options (role 'row hash')`;
const HELD = ['key', 'v', 'w', 'o', 'k', 'pv', 'po', 'valid_from', 'valid_to', 'is_current', 'version_no'];
/** What follows from the versions of one key: its number of each, and which is current. */
const numbered = (key: string, versions: readonly Row[]): Row[] =>
  versions.map((v, i) => ({ ...v, key, is_current: v['valid_to'] === null ? 't' : 'f', version_no: String(i + 1) }));
/** Rows have the same hash where their values are the same, and only there. */
async function soundMarks(columns: string): Promise<void> {
  const { rows } = await client.query<{ wrong: string }>(
    `select (select count(*) from (select from t group by ${columns} having count(distinct coalesce(mark::text, 'none')) > 1) as v)
      + (select count(*) from (select from t group by mark having mark is null or count(distinct (${columns})) > 1) as m) as wrong`,
  );
  expect(rows[0]!.wrong).toBe('0');
}

/** No version has another's key, and no number is ever given twice. */
async function soundNumbers(numbers: Map<string, string>): Promise<void> {
  const { rows } = await client.query<{ id: string; name: string }>(`select id, key || ' ' || valid_from as name from t`);
  expect(new Set(rows.map((r) => r.id)).size).toBe(rows.length);
  await soundMarks('v, w, o, k');
  const things = await client.query<{ wrong: string }>(
    'select (select count(*) from (select key from t group by key having count(distinct thing) > 1) k) + (select count(*) from (select thing from t group by thing having count(distinct key) > 1) d) as wrong',
  );
  expect(things.rows[0]!.wrong).toBe('0');
  for (const { id, name } of rows) {
    const known = numbers.get(name);
    if (known !== undefined) expect(`${name} ${id}`).toBe(`${name} ${known}`);
    numbers.set(name, id);
  }
}

describe('history by state', () => {
  const variants = (['all', 'current'] as const).flatMap((scope) =>
    (['keep', 'close'] as const).flatMap((missing) => (['in_place', 'rewrite'] as const).map((shape) => [scope, missing, shape] as const)),
  );
  test.each(variants.flatMap((variant) => batches(variants.length).map((seed) => [...variant, seed] as const)))(
    'overwritten in %s, missing %s, %s, seed %i',
    async (scope, missing, shape, seed) => {
      const loads = await loadsOf(
        client,
        SCHEMA,
        `${HISTORY}) with (load = history, business_key = 'key', overwrite_scope = ${scope}, missing_rows = ${missing}, empty = allow, shape = ${shape})`,
        'select key, v, w, o, k from landing.src',
        source('key text, v text, w text, o text, k text'),
      );
      await loads.reset();
      const die = dice(seed + 7);
      const models = new Map<string, Row[]>();
      const numbers = new Map<string, string>();
      for (let load = 0; load < LOADS; load++) {
        const rows = worlds.flatMap((world) =>
          KEYS.flatMap((k): Row[] =>
            die.below(4) === 0 ? [] : [{ key: `${world}.${k}`, v: die.pick(VALUES), w: die.pick(['1', '1', null]), o: die.pick(VALUES), k: die.pick(VALUES) }],
          ),
        );
        await fill(['key', 'v', 'w', 'o', 'k'], rows);
        await loads.load(hour(load * 10));
        for (const world of worlds)
          for (const k of KEYS) {
            const key = `${world}.${k}`;
            models.set(
              key,
              stateLoad(
                models.get(key) ?? [],
                rows.find((r) => r['key'] === key),
                hour(load * 10),
                { scope, missing },
              ),
            );
          }
        const byWorld = new Map(worlds.map((world) => [world, KEYS.flatMap((k) => numbered(`${world}.${k}`, models.get(`${world}.${k}`)!))]));
        expect(await differing(HELD, byWorld, seed)).toEqual([]);
        await soundNumbers(numbers);
        const before = await written(client, 't');
        await loads.load(hour(load * 10 + 5));
        expect(await written(client, 't')).toBe(before);
      }
    },
  );
});

describe('history by events', () => {
  const variants = (['all', 'current'] as const).flatMap((scope) => [[scope]] as const);
  test.each(variants.flatMap(([scope]) => batches(variants.length).map((seed) => [scope, seed] as const)))(
    'overwritten in %s, seed %i',
    async (scope, seed) => {
      const loads = await loadsOf(
        client,
        SCHEMA,
        `${HISTORY}) with (load = history, business_key = 'key', overwrite_scope = ${scope}, effective_from = 'at', order_within = 'seq')`,
        'select key, v, w, o, k, at, seq from landing.src',
        source('key text, v text, w text, o text, k text, at timestamptz, seq bigint'),
      );
      await loads.reset();
      const die = dice(seed + 13);
      const all: Row[] = [];
      const numbers = new Map<string, string>();
      let sequence = 0;
      for (let load = 0; load < LOADS; load++) {
        const fresh = worlds.flatMap((world) =>
          Array.from({ length: die.below(4) }, (): Row => ({
            key: `${world}.${KEYS[die.below(2)]}`,
            v: die.pick(['1', '2', null]),
            w: '1',
            o: die.pick(VALUES),
            k: die.pick(VALUES),
            at: hour(die.below(9)),
            seq: String(sequence++),
          })),
        );
        // Old events come again now and then, in any order.
        const again = all.filter(() => die.below(5) === 0);
        await fill(['key', 'v', 'w', 'o', 'k', 'at', 'seq'], [...again, ...fresh].reverse(), ['text', 'text', 'text', 'text', 'text', 'timestamptz', 'bigint']);
        all.push(...fresh);
        await loads.load(hour(100 + load));
        const byWorld = new Map(
          worlds.map((world) => [
            world,
            KEYS.flatMap((k) =>
              numbered(
                `${world}.${k}`,
                versionsOfEvents(
                  all.filter((e) => e['key'] === `${world}.${k}`),
                  { scope },
                ),
              ),
            ),
          ]),
        );
        expect(await differing(HELD, byWorld, seed)).toEqual([]);
        const { rows } = await client.query<{ n: string }>('select count(*) - count(distinct id) as n from t');
        expect(rows[0]!.n).toBe('0');
        await soundNumbers(new Map(numbers));
        const before = await written(client, 't');
        await loads.load(hour(200 + load));
        expect(await written(client, 't')).toBe(before);
      }
    },
  );
});

/** All of `OUVRAGE_WORLDS=3000` takes a quarter of an hour. */
jest.setTimeout(1_800_000);

/** Tables whose loads look at all rows together: one sequence at a time. */
const SEQUENCES = Array.from({ length: Math.ceil(WORLDS < 3000 ? WORLDS / 10 : WORLDS / 2) }, (_, seed) => seed);

async function holds(columns: readonly string[], model: readonly Row[], seed: number): Promise<void> {
  const { rows } = await client.query<Row>(`select ${columns.join(', ')} from t`);
  const text = (r: Row) => columns.map((c) => `${c}=${r[c] ?? 'null'}`).join(' ');
  expect({ seed, rows: rows.map(text).sort() }).toEqual({ seed, rows: model.map(text).sort() });
}

describe('append', () => {
  let plain: Loads;
  let back: Loads;
  const open = (options: string) =>
    loadsOf(
      client,
      SCHEMA,
      `key text, at timestamptz not null) with (load = append, watermark = 'at'${options})`,
      'select key, at from landing.src',
      source('key text, at timestamptz'),
    );
  beforeAll(async () => {
    plain = await open('');
    back = await open(", business_key = 'key', look_back = '3 hours'");
  });
  test.each(['past the watermark', 'with a look-back'])('%s', async (kind) => {
    const loads = kind === 'past the watermark' ? plain : back;
    for (const seed of SEQUENCES) {
      await loads.reset();
      const die = dice(seed + 3);
      let model: Row[] = [];
      let all: Row[] = [];
      for (let load = 0; load < 4; load++) {
        const fresh = Array.from({ length: die.below(5) }, (_, i): Row => ({ key: `${load}.${i}`, at: hour(load * 3 + die.below(6)) }));
        all = [...all.filter(() => die.below(8) > 0), ...fresh];
        await fill(['key', 'at'], all, ['text', 'timestamptz']);
        await loads.load(hour(load));
        model = appendLoad(model, all, 'at', kind === 'with a look-back' ? { hours: 3, key: 'key' } : undefined);
        await holds(['key', 'at'], model, seed);
        const before = await written(client, 't');
        await loads.load(hour(load));
        expect(await written(client, 't')).toBe(before);
      }
    }
  });
});

describe('whether the bound of an append load reaches its input', () => {
  test.each([
    ['a plain query over an index', 'select key, at from landing.src', 'create index on src (at)', 'the watermark’s bound reaches an index of src'],
    ['a plain query without one', 'select key, at from landing.src', '', 'the watermark’s bound reaches the scan of src, which has no index for it'],
    [
      'a window not of it',
      'select key, at from (select s.*, row_number() over (partition by key order by at) as n from landing.src s) r where n = 1',
      'create index on src (at)',
      'the watermark’s bound does not reach the input: all of it is read and computed first',
    ],
    [
      'the greatest of it',
      'select key, max(at) as at from landing.src group by key',
      'create index on src (at)',
      'the watermark’s bound does not reach the input: all of it is read and computed first',
    ],
  ])('%s', async (_, query, index, note) => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      "key text, at timestamptz not null) with (load = append, watermark = 'at')",
      query,
      source('key text, at timestamptz'),
    );
    await loads.reset();
    await client.query(
      `drop table if exists src; create table src as select 'k' || i as key, timestamptz '2026-01-01' + i * interval '1 minute' as at from generate_series(1, 20000) i; ${index}; analyze src`,
    );
    await client.query("insert into t values ('k', '2026-01-14 20:00+00')");
    await loads.load(hour(1));
    expect(loads.note()).toContain(note);
  });
});

describe('dated', () => {
  test.each<[string, string, number | undefined]>([
    ['all dates stay', '', undefined],
    ['three copies stay', ', keep_copies = 3', 3],
  ])('%s', async (_, options, copies) => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      `key text, x text, as_of date options (role 'as of') not null, is_current boolean options (role 'current flag')) with (load = dated${options})`,
      'select key, x, as_of from landing.src',
      source('key text, x text, as_of date'),
    );
    for (const seed of SEQUENCES) {
      await loads.reset();
      const die = dice(seed + 5);
      let model: Row[] = [];
      for (let load = 0; load < 4; load++) {
        // A delivery of one date or two, late ones too, and now and then none at all.
        const dates = Array.from({ length: die.below(3) }, () => `2026-01-0${1 + die.below(6)}`);
        const rows = [...new Set(dates)].flatMap((as_of) => KEYS.slice(0, 1 + die.below(3)).map((key): Row => ({ key, x: die.pick(VALUES), as_of })));
        await fill(['key', 'x', 'as_of'], rows, ['text', 'text', 'date']);
        await loads.load(hour(load));
        model = datedLoad(model, rows, copies);
        await holds(['key', 'x', 'as_of', 'is_current'], model, seed);
        // A date beyond the copies that stay comes and goes again: that is written, all else is not.
        if (rows.some((r) => !model.some((m) => m['as_of'] === r['as_of']))) continue;
        const before = await written(client, 't');
        await loads.load(hour(load));
        expect(await written(client, 't')).toBe(before);
      }
    }
  });
});

describe('what stops a load leaves the table as it was', () => {
  const key = 'key text, x text';
  const merge = `${key}) with (load = merge, business_key = 'key'`;
  const history = `${key}, valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'key'`;
  const first: Row[] = [
    { key: 'a', x: '1' },
    { key: 'b', x: '1' },
    { key: 'c', x: '1' },
  ];
  test.each<[string, string, Row[], string, number]>([
    ['a null key in a merge', `${merge})`, [{ key: null, x: '1' }], 'the query returns rows whose key is null', 1],
    [
      'a repeated key in a merge',
      `${merge})`,
      [
        { key: 'a', x: '1' },
        { key: 'a', x: '2' },
        { key: 'b', x: '2' },
      ],
      'the query returns more than one row for a key',
      2,
    ],
    ['no row where missing rows are deleted', `${merge}, missing_rows = delete)`, [], 'the query returns no row', 1],
    [
      'too many rows gone',
      `${merge}, missing_rows = delete, largest_loss = '50%')`,
      [{ key: 'a', x: '1' }],
      'the load would remove more than 50% of the rows',
      2,
    ],
    [
      'too many rows flagged',
      `key text, x text, gone boolean options (role 'deleted flag')) with (load = merge, business_key = 'key', missing_rows = flag, largest_loss = 1)`,
      [{ key: 'a', x: '1' }],
      'the load would remove more than 1 of the rows',
      2,
    ],
    ['a null key in a history', `${history})`, [{ key: null, x: '1' }], 'the query returns rows whose key is null', 1],
    [
      'a repeated key in a history',
      `${history})`,
      [
        { key: 'b', x: '1' },
        { key: 'b', x: '2' },
      ],
      'the query returns more than one row for a key',
      2,
    ],
    ['no row where versions are closed', `${history}, missing_rows = close)`, [], 'the query returns no row', 1],
    [
      'too many versions closed',
      `${history}, missing_rows = close, largest_loss = 1)`,
      [{ key: 'a', x: '1' }],
      'the load would remove more than 1 of the rows',
      2,
    ],
  ])('%s', async (_, contract, rows, message, atFault) => {
    const loads = await loadsOf(client, SCHEMA, contract, 'select key, x from landing.src', source('key text, x text'));
    await loads.reset();
    await fill(['key', 'x'], first);
    await loads.load(hour(1));
    const before = await written(client, 't');
    await fill(['key', 'x'], rows);
    await expect(loads.load(hour(2))).rejects.toMatchObject({ message, rows: { length: atFault } });
    expect(await written(client, 't')).toBe(before);
  });

  const events = `${key}, valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'key', effective_from = 'at'`;
  test.each<[string, string, Row[], string | undefined]>([
    [
      'two events of one instant, without an order',
      `${events})`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '2', at: hour(1), seq: '2' },
      ],
      'two events of a key say different things of one instant',
    ],
    [
      'two events of one instant with the same order',
      `${events}, order_within = 'seq')`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '2', at: hour(1), seq: '1' },
      ],
      'two events of a key say different things of one instant',
    ],
    [
      'two events of one instant, ordered',
      `${events}, order_within = 'seq')`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '2', at: hour(1), seq: '2' },
      ],
      undefined,
    ],
    ['an event without an instant', `${events})`, [{ key: 'a', x: '1', at: null, seq: '1' }], 'the query returns rows whose key, at is null'],
    [
      'the same event twice',
      `${events})`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '1', at: hour(1), seq: '1' },
      ],
      undefined,
    ],
  ])('%s', async (_, contract, rows, message) => {
    const order = contract.includes('order_within') ? ', seq' : '';
    const loads = await loadsOf(client, SCHEMA, contract, `select key, x, at${order} from landing.src`, source('key text, x text, at timestamptz, seq bigint'));
    await loads.reset();
    await fill(['key', 'x', 'at', 'seq'], rows, ['text', 'text', 'timestamptz', 'bigint']);
    if (message === undefined) expect(await loads.load(hour(2))).toMatchObject({ 'new events': expect.any(Number) });
    else await expect(loads.load(hour(2))).rejects.toThrow(message);
  });

  test.each([
    ['two open versions', "('a', '1', '2025-01-01', null)"],
    ['versions that overlap', "('a', '0', '2024-01-01', '2025-12-31')"],
  ])('%s, which something else has made', async (_, version) => {
    const loads = await loadsOf(client, SCHEMA, `${history})`, 'select key, x from landing.src', source('key text, x text'));
    await loads.reset();
    await fill(['key', 'x'], first);
    await loads.load(hour(1));
    await client.query(`update t set valid_from = '2025-06-01'; insert into t values ${version}`);
    const before = await written(client, 't');
    await fill(['key', 'x'], [{ key: 'a', x: '2' }]);
    await expect(loads.load(hour(2))).rejects.toThrow(/two open versions|two versions of a key overlap/);
    expect(await written(client, 't')).toBe(before);
  });

  test('a null watermark', async () => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      "key text, at timestamptz) with (load = append, watermark = 'at')",
      'select key, at from landing.src',
      source('key text, at timestamptz'),
    );
    await loads.reset();
    await fill(['key', 'at'], [{ key: 'a', at: null }], ['text', 'timestamptz']);
    await expect(loads.load(hour(1))).rejects.toThrow('rows without a watermark (at)');
  });

  test('a state that comes back after a forgotten repeat: A at 1, A again at 5, then late B at 3', async () => {
    const loads = await loadsOf(client, SCHEMA, `${events})`, 'select key, x, at from landing.src', source('key text, x text, at timestamptz'));
    await loads.reset();
    for (const [x, at] of [
      ['A', 1],
      ['A', 5],
      ['B', 3],
    ] as const) {
      await fill(['key', 'x', 'at'], [{ key: 'k', x, at: hour(at) }], ['text', 'text', 'timestamptz']);
      await loads.load(hour(10 + at));
    }
    await holds(
      ['x', 'valid_from', 'valid_to'],
      [
        { x: 'A', valid_from: hour(1), valid_to: hour(3) },
        { x: 'B', valid_from: hour(3), valid_to: hour(5) },
        { x: 'A', valid_from: hour(5), valid_to: null },
      ],
      0,
    );
  });
});
