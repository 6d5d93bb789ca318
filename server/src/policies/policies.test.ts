import { describe, expect, jest, test } from '@jest/globals';
import { scratch } from '../testing-sql.js';
import { loadsOf, written } from './harness.js';
import { mergeLoad, stateLoad, versionsOfEvents, type MergeRules, type Row, type Value } from './models.js';
import { dice, fill, hour, KEYS, source, VALUES } from './worlds.js';

/**
 * Every policy on PostgreSQL against its plain model, over random sequences of loads. A world is one
 * sequence; worlds share a table, distinguished by the first part of their keys, so that one load carries
 * a hundred of them. `OUVRAGE_WORLDS=3000` plays that many of each policy; a world that differs is printed with its seed.
 */
const SCHEMA = 'policies_test';
const WORLDS = Number(process.env['OUVRAGE_WORLDS'] ?? 200);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 0);
const TOGETHER = 100;
const LOADS = 6;
const client = scratch(SCHEMA);

const batches = (variants: number) =>
  Array.from({ length: Math.max(1, Math.ceil(WORLDS / TOGETHER / variants)) }, (_, seed) => SEED + seed);
/** The worlds of a batch whose tables differ from their model's, with what each has. */
async function differing(
  columns: readonly string[],
  models: ReadonlyMap<number, readonly Row[]>,
  seed: number,
): Promise<unknown[]> {
  const { rows } = await client.query<Record<string, Value>>(
    `select split_part(key, '.', 1) as world, ${columns.join(', ')} from t`,
  );
  const text = (r: Row) => columns.map((c) => `${c}=${r[c] ?? 'null'}`).join(' ');
  const found = new Map<number, string[]>();
  for (const r of rows) found.set(Number(r['world']), [...(found.get(Number(r['world'])) ?? []), text(r)]);
  return [...models].flatMap(([world, model]) => {
    const [has, should] = [(found.get(world) ?? []).sort(), model.map(text).sort()];
    return JSON.stringify(has) === JSON.stringify(should) ? [] : [{ seed, world, has, should }];
  });
}

const worlds = Array.from({ length: TOGETHER }, (_, w) => w);

/** All of `OUVRAGE_WORLDS=3000` takes a quarter of an hour. */
jest.setTimeout(1_800_000);

describe('merge', () => {
  const COLUMNS = ['key', 'x', 'y'];
  const variants: readonly [string, string, Omit<MergeRules, 'key' | 'columns'>][] = [
    ['all columns', '', { missing: 'keep' }],
    ['missing deleted', ', missing_rows = delete, empty = allow', { missing: 'delete' }],
    [
      'missing deleted, all written anew',
      ', missing_rows = delete, empty = allow, shape = rewrite',
      { missing: 'delete' },
    ],
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
  test.each(
    variants.flatMap(([name, options, rules]) =>
      batches(variants.length).map((seed) => [name, seed, options, rules] as const),
    ),
  )('%s, seed %i', async (_, seed, options, rules) => {
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
        KEYS.flatMap((k): Row[] =>
          die.below(4) === 0 ? [] : [{ key: `${w}.${k}`, x: die.pick(VALUES), y: die.pick(VALUES) }],
        ),
      );
      await fill(client, COLUMNS, rows);
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
  });
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
  const { rows } = await client.query<{ id: string; name: string }>(
    `select id, key || ' ' || valid_from as name from t`,
  );
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
    (['keep', 'close'] as const).flatMap((missing) =>
      (['in_place', 'rewrite'] as const).map((shape) => [scope, missing, shape] as const),
    ),
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
            die.below(4) === 0
              ? []
              : [
                  {
                    key: `${world}.${k}`,
                    v: die.pick(VALUES),
                    w: die.pick(['1', '1', null]),
                    o: die.pick(VALUES),
                    k: die.pick(VALUES),
                  },
                ],
          ),
        );
        await fill(client, ['key', 'v', 'w', 'o', 'k'], rows);
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
        const byWorld = new Map(
          worlds.map((world) => [world, KEYS.flatMap((k) => numbered(`${world}.${k}`, models.get(`${world}.${k}`)!))]),
        );
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
  const PLAIN = `key text not null, v text, w text, k text options (on_change 'keep'),
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag') not null`;
  const PLAIN_HELD = ['key', 'v', 'w', 'k', 'valid_from', 'valid_to', 'is_current'];
  interface Variant {
    readonly name: string;
    readonly contract: string;
    readonly options?: string;
    readonly scope?: 'all' | 'current';
  }
  const variants: readonly Variant[] = [
    { name: 'overwritten in all', contract: HISTORY, scope: 'all' },
    { name: 'overwritten in current', contract: HISTORY, scope: 'current' },
    { name: 'overwritten in all, written anew', contract: HISTORY, scope: 'all', options: ', shape = rewrite' },
    { name: 'stamped', contract: `${HISTORY}, loaded_at timestamptz options (role 'loaded at')`, scope: 'current' },
    { name: 'without numbers or order', contract: PLAIN },
    { name: 'without numbers or order, written anew', contract: PLAIN, options: ', shape = rewrite' },
  ];
  test.each(variants.flatMap((variant) => batches(variants.length).map((seed) => ({ ...variant, seed }))))(
    '$name, seed $seed',
    async ({ contract, options = '', scope, seed }) => {
      const withNumbers = scope !== undefined;
      const held = withNumbers ? HELD : PLAIN_HELD;
      const columns = withNumbers ? ['key', 'v', 'w', 'o', 'k', 'at', 'seq'] : ['key', 'v', 'w', 'k', 'at'];
      const types = columns.map((c) => (c === 'at' ? 'timestamptz' : c === 'seq' ? 'bigint' : 'text'));
      const loads = await loadsOf(
        client,
        SCHEMA,
        `${contract}) with (load = history, business_key = 'key', effective_from = 'at'${withNumbers ? `, overwrite_scope = ${scope}, order_within = 'seq'` : ''}${options})`,
        `select ${columns.join(', ')} from landing.src`,
        source(columns.map((c, i) => `${c} ${types[i]}`).join(', ')),
      );
      await loads.reset();
      const die = dice(seed + 13);
      const all: Row[] = [];
      const numbers = new Map<string, string>();
      let sequence = 0;
      for (let load = 0; load < LOADS; load++) {
        const fresh = worlds.flatMap((world) =>
          Array.from({ length: die.below(4) }, (): Row => {
            const seq = sequence++;
            // Where nothing orders the events of one instant, no two of a key have one.
            const second = withNumbers ? 0 : seq % 3600;
            const at =
              new Date(Date.UTC(2026, 0, 1, die.below(9), 0, second)).toISOString().slice(0, 19).replace('T', ' ') +
              '+00';
            return {
              key: `${world}.${KEYS[die.below(2)]}`,
              v: die.pick(['1', '2', null]),
              w: '1',
              o: die.pick(VALUES),
              k: die.pick(VALUES),
              at,
              seq: String(seq),
            };
          }),
        );
        // Old events come again now and then, in any order.
        const again = all.filter(() => die.below(5) === 0);
        await fill(client, columns, [...again, ...fresh].reverse(), types);
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
                  { scope: scope ?? 'all' },
                ),
              ),
            ),
          ]),
        );
        expect(await differing(held, byWorld, seed)).toEqual([]);
        if (withNumbers) await soundNumbers(new Map(numbers));
        const before = await written(client, 't');
        await loads.load(hour(200 + load));
        expect(await written(client, 't')).toBe(before);
      }
    },
  );
});
