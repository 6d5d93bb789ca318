import { describe, expect, test } from '@jest/globals';
import { dueAt, minuteOf, nextAt } from './due.js';

const at = (text: string) => new Date(text);
const USUAL = { digest: 'at once', quietFrom: null, quietTo: null, zone: 'UTC' } as const;

describe('when a mail is due', () => {
  test.each<[string, string, Partial<Parameters<typeof dueAt>[1]>, string, Parameters<typeof dueAt>[2]?]>([
    ['at once', '2026-11-30T05:12:13Z', {}, '2026-11-30T05:12:13.000Z'],
    ['at the next full hour', '2026-11-30T05:12:13Z', { digest: 'hour' }, '2026-11-30T06:00:00.000Z'],
    [
      'in the morning of the reader',
      '2026-11-30T05:12:13Z',
      { digest: 'day', zone: 'Europe/Paris' },
      '2026-11-30T06:00:00.000Z',
    ],
    ['the next morning', '2026-11-30T08:00:01Z', { digest: 'day' }, '2026-12-01T07:00:00.000Z'],
    [
      'after quiet hours past midnight',
      '2026-11-30T23:30:00Z',
      { quietFrom: '22:00', quietTo: '06:30' },
      '2026-12-01T06:30:00.000Z',
    ],
    [
      'after quiet hours early in the day',
      '2026-11-30T02:30:00Z',
      { quietFrom: '22:00', quietTo: '06:30' },
      '2026-11-30T06:30:00.000Z',
    ],
    [
      'before quiet hours',
      '2026-11-30T21:59:00Z',
      { quietFrom: '22:00', quietTo: '06:30' },
      '2026-11-30T21:59:00.000Z',
    ],
    ['when they end', '2026-11-30T06:30:00Z', { quietFrom: '22:00', quietTo: '06:30' }, '2026-11-30T06:30:00.000Z'],
    [
      'quiet hours within a day',
      '2026-11-30T13:00:00Z',
      { quietFrom: '12:00', quietTo: '14:00' },
      '2026-11-30T14:00:00.000Z',
    ],
    [
      'a digest that would fall into quiet hours',
      '2026-11-30T21:30:00Z',
      { digest: 'hour', quietFrom: '22:00', quietTo: '06:00' },
      '2026-12-01T06:00:00.000Z',
    ],
    [
      'what is critical passes both',
      '2026-11-30T23:30:00Z',
      { digest: 'day', quietFrom: '22:00', quietTo: '06:00' },
      '2026-11-30T23:30:00.000Z',
      'critical',
    ],
    [
      'a zone of quarters of an hour',
      '2026-11-30T16:20:00Z',
      { quietFrom: '22:00', quietTo: '06:00', zone: 'Asia/Kathmandu' },
      '2026-12-01T00:15:00.000Z',
    ],
    // Clocks go from 02:00 to 03:00: 02:30 does not exist.
    [
      'an end that a clock does not show',
      '2026-03-29T00:10:00Z',
      { quietFrom: '22:00', quietTo: '02:30', zone: 'Europe/Paris' },
      '2026-03-29T01:00:00.000Z',
    ],
    // Clocks go from 03:00 back to 02:00: the first 02:30 counts.
    [
      'an end that a clock shows twice',
      '2026-10-24T22:30:00Z',
      { quietFrom: '22:00', quietTo: '02:30', zone: 'Europe/Paris' },
      '2026-10-25T00:30:00.000Z',
    ],
  ])('%s', (_, now, when, due, severity = 'medium') => {
    expect(dueAt(at(now), { ...USUAL, ...when }, severity).toISOString()).toBe(due);
  });

  test('the next minute of a day is never before, and the clock shows it (seeded)', () => {
    let seed = 11;
    const next = (n: number) => (seed = (seed * 1103515245 + 12345) % 2147483648) % n;
    const zones = ['UTC', 'Europe/Paris', 'America/St_Johns', 'Asia/Kathmandu', 'Pacific/Chatham'];
    for (let i = 0; i < 300; i++) {
      const from = new Date(Date.UTC(2026, next(12), 1 + next(28), next(24), next(60), next(60)));
      const [minute, zone] = [next(1440), zones[next(zones.length)]!];
      const found = nextAt(from, minute, zone);
      expect(found.getTime()).toBeGreaterThanOrEqual(from.getTime());
      expect(found.getTime() - from.getTime()).toBeLessThanOrEqual(26 * 3_600_000);
      const shown = minuteOf(found, zone);
      // A minute that a clock put forward does not show is within the hour before.
      expect((shown - minute + 1440) % 1440).toBeLessThanOrEqual(60);
    }
  });
});
