import { describe, expect, test } from '@jest/globals';
import {
  againstTargets,
  pivot,
  pivotNames,
  pivotValuesQuery,
  summarise,
  unpivot,
  type MeasureKind,
} from '@ouvrage/core/starter';
import { client, full, multiset, open, random, run, SEEDS, table, type Value } from './starters-harness.js';

/** Starters that add up: their SQL over random rows, held against a plain computation. */
open('starter_measures_test');

/** A measure over a group's values, written from what its name says. */
function measured(kind: MeasureKind, values: (number | null)[], nullIsZero: boolean, all: (number | null)[]): Value {
  const some = values.flatMap((v) => (v === null ? (nullIsZero ? [0] : []) : [v]));
  const sum = (list: number[]) => (list.length ? list.reduce((a, b) => a + b, 0) : null);
  switch (kind) {
    case 'count':
      return values.filter((v) => v !== null).length;
    case 'distinct':
      return new Set(values.filter((v) => v !== null)).size;
    case 'sum':
      return sum(some);
    case 'least':
      return values.some((v) => v !== null) ? Math.min(...values.filter((v) => v !== null)) : null;
    case 'greatest':
      return values.some((v) => v !== null) ? Math.max(...values.filter((v) => v !== null)) : null;
    case 'average':
      return some.length ? sum(some)! / some.length : null;
    case 'share': {
      const whole = sum(all.flatMap((v) => (v === null ? (nullIsZero ? [0] : []) : [v])));
      const own = sum(some);
      return own === null || !whole ? null : own / whole;
    }
  }
}

const groupsOf = <T>(rows: readonly T[], key: (row: T) => string): T[][] => {
  const groups = new Map<string, T[]>();
  for (const row of rows) groups.set(key(row), [...(groups.get(key(row)) ?? []), row]);
  return [...groups.values()];
};

describe('summarise', () => {
  const KINDS: readonly MeasureKind[] = ['count', 'distinct', 'sum', 'least', 'greatest', 'average', 'share'];
  test.each(SEEDS)('seed %i', async (seed) => {
    const r = random(seed);
    const rows = r.rows(30, () => [r.maybe(r.pick(['x', 'y'])), r.maybe(r.below(3)), r.maybe(r.below(20) - 5)]);
    await table('facts', { t: 'text', g: 'integer', n: 'integer' }, rows);
    const by = ['t', 'g'].slice(0, 1 + r.below(2));
    const nullIsZero = r.below(2) === 0;
    const measures = [
      { kind: 'count' as const, name: 'rows_seen' },
      ...KINDS.map((kind) => ({ kind, column: 'n', name: `${kind}_n`, nullIsZero })),
    ];
    const all = rows.map((x) => x[2] as number | null);
    const expected = groupsOf(rows, (x) => JSON.stringify(x.slice(0, by.length))).map((group) => {
      const values = group.map((x) => x[2] as number | null);
      return [
        ...group[0]!.slice(0, by.length),
        group.length,
        ...KINDS.map((kind) => measured(kind, values, nullIsZero, all)),
      ];
    });
    expect((await run(summarise({ source: full('facts'), by, measures }))).rows).toEqual(multiset(expected));
  });
});

describe('periods', () => {
  test.each(SEEDS)('months summarised, groups chosen and sorted, and as columns: seed %i', async (seed) => {
    const r = random(seed);
    const days = ['2026-01-03', '2026-01-31', '2026-02-01', '2026-03-15', '2025-12-31'];
    const rows = r.rows(30, () => [r.maybe(r.pick(days)), r.below(9)]);
    await table('landed', { landed_on: 'date', n: 'integer' }, rows);
    const monthOf = (x: Value[]) => (x[0] === null ? null : `${String(x[0]).slice(0, 7)}-01`);
    const sums = groupsOf(rows, (x) => String(monthOf(x))).map((group): [string | null, number] => [
      monthOf(group[0]!),
      group.reduce((sum, x) => sum + (x[1] as number), 0),
    ]);
    const key = { column: 'landed_on', period: 'month' } as const;
    const sql = summarise({
      source: full('landed'),
      by: [key],
      measures: [{ kind: 'sum', column: 'n', name: 'total' }],
      having: 'sum(n) > 8 -- enough',
      order: { column: 'total', descending: true },
      most: 2,
    });
    const wanted = sums
      .map((s) => s[1])
      .filter((total) => total > 8)
      .sort((a, b) => b - a)
      .slice(0, 2);
    const found = await client.query<{ landed_month: string | null; total: string }>(
      `select landed_month::text, total::text from (${sql}) as s`,
    );
    expect(found.rows.map((x) => Number(x.total))).toEqual(wanted);
    for (const x of found.rows) expect(sums).toContainEqual([x.landed_month, Number(x.total)]);
    const values = await client.query<{ value: string | null }>(
      pivotValuesQuery({ source: full('landed'), across: 'landed_on', period: 'month' }),
    );
    const months = values.rows.map((v) => v.value);
    expect([...months].sort()).toEqual(sums.map((s) => s[0]).sort());
    if (months.length === 0) return;
    const names = pivotNames(months, [], 'month');
    const turned = pivot({
      source: full('landed'),
      by: [],
      across: 'landed_on',
      period: 'month',
      values: months.map((value, i) => ({ value, name: names[i]! })),
      measure: { kind: 'sum', column: 'n' },
    });
    const cells = months.map((m) => sums.find((s) => s[0] === m)![1]);
    expect(await run(turned)).toEqual({ names, rows: multiset([cells]) });
  });
});

describe('pivot', () => {
  test.each(SEEDS)('to columns and back: seed %i', async (seed) => {
    const r = random(seed);
    const rows = r.rows(25, () => [
      r.maybe(r.pick(['q', 'w'])),
      r.maybe(r.pick(['in', 'out', '', "o'k"])),
      r.maybe(r.below(9)),
    ]);
    await table('moves', { who: 'text', direction: 'text', n: 'integer' }, rows);
    const found = [...new Set(rows.map((x) => x[1] as string | null))];
    const names = pivotNames(found, ['who']);
    const sql = pivot({
      source: full('moves'),
      by: ['who'],
      across: 'direction',
      values: found.map((value, i) => ({ value, name: names[i]! })),
      measure: { kind: 'sum', column: 'n' },
    });
    const cells = groupsOf(rows, (x) => String(x[0])).map((group) => [
      group[0]![0]!,
      ...found.map((value) => {
        const own = group.filter((x) => x[1] === value).flatMap((x) => (x[2] === null ? [] : [x[2] as number]));
        return own.length ? own.reduce((a, b) => a + b, 0) : null;
      }),
    ]);
    if (found.length) expect(await run(sql)).toEqual({ names: ['who', ...names], rows: multiset(cells) });
    await client.query(`create or replace view wide as select 1 as who, 2 as a, null::int as b`);
    const back = unpivot({
      source: full('wide'),
      keep: ['who'],
      columns: ['a', 'b'],
      nameColumn: 'direction',
      valueColumn: 'n',
      withoutNulls: seed % 2 === 0,
    });
    expect((await run(back)).rows).toEqual(
      multiset(
        seed % 2 === 0
          ? [[1, 'a', 2]]
          : [
              [1, 'a', 2],
              [1, 'b', null],
            ],
      ),
    );
  });
});

describe('target against actual', () => {
  test.each(SEEDS)('seed %i', async (seed) => {
    const r = random(seed);
    const targets = ['x', 'y', 'z'].flatMap((t) =>
      r.below(3) ? [[t, r.below(3), r.maybe(r.below(4) * 10)] as Value[]] : [],
    );
    const rows = r.rows(25, () => [r.pick(['x', 'y', 'w']), r.below(30), r.maybe(r.below(9))]);
    await table('goals', { terminal: 'text', quarter: 'integer', tonnes: 'integer' }, targets);
    await table('done', { terminal: 'text', day: 'integer', tonnes: 'integer' }, rows);
    const sql = againstTargets({
      targets: full('goals'),
      actuals: full('done'),
      grain: [
        { column: 'terminal', expression: 'terminal' },
        { column: 'quarter', expression: 'day / 10 -- ten days' },
      ],
      measures: [{ target: 'tonnes', actual: { kind: 'sum', column: 'tonnes' }, name: 'moved' }],
    });
    const achieved = groupsOf(rows, (x) => JSON.stringify([x[0], Math.floor((x[1] as number) / 10)])).map((group) => {
      const some = group.flatMap((x) => (x[2] === null ? [] : [x[2] as number]));
      return {
        key: [group[0]![0]!, Math.floor((group[0]![1] as number) / 10)],
        sum: some.length ? some.reduce((a, b) => a + b, 0) : null,
      };
    });
    const same = (a: Value[], b: Value[]) => a[0] === b[0] && a[1] === b[1];
    const line = (key: Value[], target: Value, actual: Value): Value[] => [
      ...key,
      target,
      actual,
      Number(actual ?? 0) - Number(target ?? 0),
      target ? Number(actual ?? 0) / Number(target) : null,
    ];
    const expected = [
      ...targets.map((t) => line(t.slice(0, 2), t[2]!, achieved.find((a) => same(a.key, t))?.sum ?? null)),
      ...achieved.filter((a) => !targets.some((t) => same(a.key, t))).map((a) => line(a.key, null, a.sum)),
    ];
    expect((await run(sql)).rows).toEqual(multiset(expected));
  });
});
