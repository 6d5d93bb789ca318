import { describe, expect, test } from '@jest/globals';
import { instantOfWatermark, usualWait, waited, waitDay, type Wait } from './lateness.js';

const HOUR = 3600;
/** The waits of so many days; undefined is a day on which nothing came. */
const of = (days: number, hours: (day: number) => number | undefined): readonly Wait[] => {
  let waits: readonly Wait[] = [];
  for (let day = 0; day < days; day++) {
    const value = hours(day);
    if (value !== undefined) waits = waited(waits, { day, value: value * HOUR });
  }
  return waits;
};
const wave = (day: number) => Math.sin(day * 12.9898);
const daily = (day: number) => 25 + 0.3 * wave(day);
/** Monday to Friday, where day 0 is a Monday. */
const workdays = (day: number) => (day % 7 > 4 ? undefined : day % 7 === 0 ? 73 + wave(day) : daily(day));

describe('how old the newest row may become', () => {
  test.each<[string, readonly Wait[], number, readonly [number, number] | undefined]>([
    ['nothing is known of a few days', of(13, daily), 13, undefined],
    ['a source of every night', of(30, daily), 30, [27, 34]],
    ['one night without it is no rule', of(30, (d) => (d === 20 ? 200 : daily(d))), 30, [27, 34]],
    ['on workdays, a Tuesday', of(50, workdays), 50, [27, 40]],
    ['on workdays, a Monday', of(49, workdays), 49, [74, 100]],
    ['on workdays, a Sunday: nothing ever came on one', of(48, workdays), 48, [73, 500]],
    ['a new rhythm is learned from its third day on', of(60, (d) => (d < 40 ? daily(d) : 49)), 60, [50, 70]],
    ['all that is always late at the minute', of(30, () => 0.25), 30, [0.2, 1]],
  ])('%s', (_, waits, day, hours) => {
    const found = usualWait(waits, day);
    if (!hours) return expect(found).toBeUndefined();
    expect(found!.seconds / HOUR).toBeGreaterThanOrEqual(hours[0]);
    expect(found!.seconds / HOUR).toBeLessThanOrEqual(hours[1]);
  });
  test('is told in whole hours, below one in minutes', () => {
    expect(usualWait(of(30, daily), 30)!.seconds % HOUR).toBe(0);
    expect(
      usualWait(
        of(30, () => 0.25),
        30,
      )!.seconds % 60,
    ).toBe(0);
  });
});

test('of several waits of a day the longest counts, and old ones are forgotten', () => {
  const twice = waited(waited(waited([], { day: 1, value: 50 }), { day: 1, value: 20 }), { day: 1, value: 70 });
  expect(twice).toEqual([{ day: 1, value: 70 }]);
  expect(of(300, daily)).toHaveLength(120);
});

/** Simulated sources: how often one is said to be late that is as ever, and how soon one that has stopped. */
test('sources over a year are hardly ever said to be late falsely, and always once they have stopped', () => {
  let state = 7;
  const random = () => (state = (state * 48_271) % 2_147_483_647) / 2_147_483_647;
  const normal = () => Math.sqrt(-2 * Math.log(random())) * Math.cos(2 * Math.PI * random());
  const counted = { days: 0, false: 0, stopped: 0, found: 0 };
  for (let source = 0; source < 8; source++) {
    const noise = 0.01 + 0.04 * random();
    let waits: readonly Wait[] = [];
    for (let day = 0; day < 365; day++) {
      const value = 24 * HOUR * Math.exp(noise * normal());
      const usual = usualWait(waits, day);
      if (usual) {
        counted.days++;
        if (value > usual.seconds) counted.false++;
        // Had nothing come that day, it would be two days old at the next.
        counted.stopped++;
        if (48 * HOUR > usual.seconds) counted.found++;
      }
      waits = waited(waits, { day, value });
    }
  }
  expect(counted.days).toBeGreaterThan(2500);
  expect(counted.false / counted.days).toBeLessThanOrEqual(0.001);
  expect(counted.found).toBe(counted.stopped);
});

test.each([
  ['2026-03-01', '2026-03-01T00:00:00.000Z'],
  ['2026-03-01 10:20:30', '2026-03-01T10:20:30.000Z'],
  ['2026-03-01 10:20:30.123456+00', '2026-03-01T10:20:30.123Z'],
  ['2026-03-01 10:20:30+05:30', '2026-03-01T04:50:30.000Z'],
  ['2026-03-01 10:20:30.5-02', '2026-03-01T12:20:30.500Z'],
  ['4711', undefined],
  ['2026-13-45', undefined],
  ['infinity', undefined],
])('the watermark %s is of %s', (text, at) => expect(instantOfWatermark(text)?.toISOString()).toBe(at));

test('days of waits are whole days of UTC', () => expect(waitDay(new Date('1970-01-03T23:59:59Z'))).toBe(2));
