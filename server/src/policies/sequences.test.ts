import { beforeAll, describe, expect, jest, test } from '@jest/globals';
import { scratch } from '../testing-sql.js';
import { loadsOf, written, type Loads } from './harness.js';
import { appendLoad, datedLoad, type Row } from './models.js';
import { dice, fill, holds, hour, KEYS, source, VALUES } from './worlds.js';

/** Policies whose loads look at all rows of their table together: one sequence at a time, against plain models. */
const SCHEMA = 'sequences_test';
const WORLDS = Number(process.env['OUVRAGE_WORLDS'] ?? 200);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 0);
const SEQUENCES = Array.from({ length: Math.ceil(WORLDS < 500 ? WORLDS / 10 : WORLDS / 2) }, (_, seed) => SEED + seed);
jest.setTimeout(1_800_000);
const client = scratch(SCHEMA);

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
        const fresh = Array.from({ length: die.below(5) }, (_, i): Row => ({
          key: `${load}.${i}`,
          at: hour(load * 3 + die.below(6)),
        }));
        all = [...all.filter(() => die.below(8) > 0), ...fresh];
        await fill(client, ['key', 'at'], all, ['text', 'timestamptz']);
        const known = model.length;
        const { inserted } = await loads.load(hour(load));
        model = appendLoad(model, all, 'at', kind === 'with a look-back' ? { hours: 3, key: 'key' } : undefined);
        expect(inserted).toBe(model.length - known);
        await holds(client, ['key', 'at'], model, seed);
        const before = await written(client, 't');
        await loads.load(hour(load));
        expect(await written(client, 't')).toBe(before);
      }
    }
  });
});

describe('whether the bound of an append load reaches its input', () => {
  test.each([
    [
      'a plain query over an index',
      'select key, at from landing.src',
      'create index on src (at)',
      'the watermark’s bound reaches an index of src',
    ],
    [
      'a plain query without one',
      'select key, at from landing.src',
      '',
      'the watermark’s bound reaches the scan of src, which has no index for it',
    ],
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
        const rows = [...new Set(dates)].flatMap((as_of) =>
          KEYS.slice(0, 1 + die.below(3)).map((key): Row => ({ key, x: die.pick(VALUES), as_of })),
        );
        await fill(client, ['key', 'x', 'as_of'], rows, ['text', 'text', 'date']);
        const counts = await loads.load(hour(load));
        const old = new Set(model.map((m) => m['as_of']));
        model = datedLoad(model, rows, copies);
        await holds(client, ['key', 'x', 'as_of', 'is_current'], model, seed);
        const delivered = [...new Set(rows.map((r) => r['as_of']))];
        const stay = delivered.filter((d) => model.some((m) => m['as_of'] === d));
        expect(counts).toMatchObject({
          'new dates': stay.filter((d) => !old.has(d)).length,
          ...(copies === undefined ? {} : { 'dates too old to stay': delivered.length - stay.length }),
        });
        const before = await written(client, 't');
        await loads.load(hour(load));
        expect(await written(client, 't')).toBe(before);
      }
    }
  });
});
