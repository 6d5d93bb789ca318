import { describe, expect, test } from '@jest/globals';
import { judgeTable, type Series } from './judge.js';
import { learn, type Measured } from './learn.js';
import { FAULTS, measureOf, simulated } from './simulator-harness.js';
import { twoSided } from './student.js';
import { watched } from './watched-harness.js';

/** Critical values of Student's t as tables print them. */
test.each<[number, number, number]>([
  [12.706, 1, 0.05],
  [2.228, 10, 0.05],
  [4.587, 10, 0.001],
  [2.042, 30, 0.05],
  [3.646, 30, 0.001],
  [1.96, 1e6, 0.05],
  [4.891, 1e6, 1e-6],
  [0, 5, 1],
])('t = %p with %p degrees of freedom is exceeded with %p', (t, freedom, likelihood) =>
  expect(twoSided(t, freedom) / likelihood).toBeCloseTo(1, 2),
);

/** Values of so many days, without those that are undefined. */
const daysOf = (n: number, value: (day: number) => number | undefined): Measured[] =>
  Array.from({ length: n }, (_, day) => ({ day, value: value(day) })).filter(
    (m): m is Measured => m.value !== undefined,
  );
/** A noise that is the same each time, between -1 and 1. */
const wave = (day: number) => Math.sin(day * 12.9898) * 0.7 + Math.sin(day * 4.1414) * 0.3;

describe('what a past of counts shows', () => {
  const week = [1, 1, 1, 1, 1, 0.4, 0.3];
  test.each<[string, Measured[], number, string | undefined, number | undefined]>([
    ['too few values', daysOf(13, () => 100), 13, undefined, undefined],
    ['values of too few days', daysOf(13, () => 100).concat({ day: 12, value: 100 }), 13, undefined, undefined],
    ['a level', daysOf(40, (d) => 1000 + 30 * wave(d)), 40, 'level', 1000],
    ['a level with a value far out', daysOf(40, (d) => (d === 20 ? 10 : 1000 + 30 * wave(d))), 40, 'level', 996],
    ['growth', daysOf(60, (d) => 1000 * 1.01 ** d * (1 + 0.01 * wave(d))), 60, 'growth', 1817],
    ['weekdays, a Saturday', daysOf(61, (d) => 1000 * week[d % 7]! * (1 + 0.02 * wave(d))), 61, 'weekday', 400],
    ['weekdays, a Monday', daysOf(63, (d) => 1000 * week[d % 7]! * (1 + 0.02 * wave(d))), 63, 'weekday', 1000],
    [
      'weekdays before they are known',
      daysOf(19, (d) => 1000 * week[d % 7]! * (1 + 0.02 * wave(d))),
      19,
      'level',
      undefined,
    ],
    [
      'growth with weekdays',
      daysOf(112, (d) => 1000 * 1.01 ** d * week[d % 7]! * (1 + 0.02 * wave(d))),
      112,
      'growth and weekday',
      3048,
    ],
    ['missed days', daysOf(60, (d) => (d % 3 === 1 ? undefined : 1000 * 1.01 ** d)), 60, 'growth', 1817],
  ])('%s', (_, past, day, by, center) => {
    const found = learn(past, day, { scale: 'count' });
    expect(found?.by).toBe(by);
    if (center !== undefined) expect(Math.abs(found!.center / center - 1)).toBeLessThan(0.05);
  });
  test('the range holds what has been, and what is likely; beyond it is unlikely', () => {
    const found = learn(
      daysOf(40, (d) => 1000 + 30 * wave(d)),
      40,
      { scale: 'count' },
    )!;
    const { least, greatest } = found.range(1e-4);
    expect([least > 850, least < 970, greatest > 1030, greatest < 1150]).toEqual([true, true, true, true]);
    expect([found.likelihood(1000), found.likelihood(700) < 1e-6]).toEqual([1, true]);
    expect(found.likelihood(greatest * 1.001)).toBeLessThan(1.1e-4);
  });
  test('an error of sampling widens it', () => {
    const past = daysOf(40, () => 0.1);
    const [exact, sampled] = [learn(past, 40, { scale: 'share' })!, learn(past, 40, { scale: 'share', error: 0.1 })!];
    expect(sampled.range(1e-4).greatest).toBeGreaterThan(exact.range(1e-4).greatest * 1.2);
  });
  test.each(['count', 'share', 'age', 'number'] as const)(
    'a past without any spread, on the scale of a %s',
    (scale) => {
      const found = learn(
        daysOf(40, () => 0.5),
        40,
        { scale },
      )!;
      expect(found.likelihood(0.5)).toBe(1);
      expect(found.likelihood(scale === 'age' ? 1e6 : 30)).toBeLessThan(1e-6);
    },
  );
});

describe('a table', () => {
  const past = daysOf(40, (d) => 1000 + 10 * wave(d));
  const rows = (value: number, of: Partial<Series> = {}): Series => ({
    name: 'rows',
    scale: 'count',
    past,
    now: { day: 40, value },
    ...of,
  });
  const verdicts = (...series: Series[]) => judgeTable(series).series.map((s) => s.verdict);
  test('tells its least likely measure, and lists the others', () => {
    const judged = judgeTable([rows(900), { ...rows(500), name: 'added' }, { ...rows(1000), name: 'left' }]);
    expect(judged.series.map((s) => s.verdict)).toEqual(['outside', 'outside', 'inside']);
    expect(judged.finding).toMatchObject({ name: 'added', expected: { by: 'level', from: 40 } });
    expect(judged.series.map((s) => s.expected !== undefined)).toEqual([true, true, false]);
  });
  test('says nothing of what it has not learned', () => {
    expect(verdicts(rows(1, { past: past.slice(0, 10) }))).toEqual(['silent']);
    expect(judgeTable([]).finding).toBeUndefined();
  });
  test('takes a third value outside that agrees with two for a new level, and no other', () => {
    const outside = (...values: number[]) => values.map((value, i) => ({ day: 38 + i, value }));
    expect(verdicts(rows(2000, { outside: outside(2010) }))).toEqual(['outside']);
    expect(verdicts(rows(2000, { outside: outside(2010, 1990) }))).toEqual(['agreed']);
    expect(verdicts(rows(2000, { outside: outside(4000, 500) }))).toEqual(['outside']);
  });
  test('has one budget: among many measures each has to be less likely', () => {
    // Alone, a measure has the whole budget.
    const unlikely = learn(past, 40, { scale: 'count' })!.range(5e-5).least;
    expect(verdicts(rows(unlikely))[0]).toBe('outside');
    const many = Array.from({ length: 300 }, (_, i) => ({ ...rows(1000), name: `m${i}` }));
    expect(judgeTable([{ ...rows(unlikely), name: 'one' }, ...many]).series[0]!.verdict).toBe('inside');
  });
});

/** A part of what `bench/watch` plays at full size. */
describe('simulated tables', () => {
  test.each(['steady', 'weekly', 'growing'] as const)('of a %s kind are told at most once falsely', (kind) => {
    let told = 0;
    for (const { judged } of watched({ kind, noise: 0.05, days: 120, seed: 11 })) told += judged.finding ? 1 : 0;
    expect(told).toBeLessThanOrEqual(1);
  });
  test.each(FAULTS)('%s is found at the first load', (fault) => {
    const measure = measureOf(fault);
    for (const [seed, kind] of (['steady', 'weekly', 'growing'] as const).entries()) {
      let verdict: string | undefined;
      for (const { judged } of watched({ kind, noise: 0.02, days: 51, seed, fault: { fault, day: 50 } }))
        verdict = judged.series.find((s) => s.name === measure)!.verdict;
      expect([kind, verdict]).toEqual([kind, 'outside']);
    }
  });
  test('a new level is told twice, then learned', () => {
    const days: number[] = [];
    for (const { day, judged } of watched({ kind: 'stepped', noise: 0.02, days: 130, seed: 3 }))
      if (judged.finding?.name === 'rows') days.push(day);
    expect(days.length).toBe(2);
  });
  test('are the same for a seed', () => {
    const of = (seed: number) =>
      JSON.stringify([...simulated({ kind: 'weekly', noise: 0.05, days: 9, seed })].map((d) => [...d.measures]));
    expect(of(1)).toBe(of(1));
    expect(of(1)).not.toBe(of(2));
  });
});
