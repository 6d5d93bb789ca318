import { describe, expect, test } from '@jest/globals';
import { isCron, parseCron, type Cron } from './cron.js';
import { nextStarts, startsBetween } from './starts.js';
import { scheduleWords } from './words.js';
import { isZone, nearestZone } from './zone.js';

const cronOf = (text: string): Cron => {
  const read = parseCron(text);
  if (!isCron(read)) throw new Error(read.message);
  return read;
};
const starts = (text: string, zone: string, after: string, most = 5) =>
  nextStarts({ cron: cronOf(text), zone }, Date.parse(after), most).map((i) => new Date(i).toISOString().slice(0, 16));

describe('five fields are read', () => {
  test.each<[string, Partial<Record<keyof Cron, readonly number[]>>]>([
    ['30 4 * * 1-5', { minute: [30], hour: [4], weekday: [1, 2, 3, 4, 5] }],
    [
      '*/20 0-6/2,23 1,15 jan,JUL mon-wed',
      { minute: [0, 20, 40], hour: [0, 2, 4, 6, 23], day: [1, 15], month: [1, 7], weekday: [1, 2, 3] },
    ],
    ['5/15 12 * * 0,7', { minute: [5, 20, 35, 50], weekday: [0] }],
    ['0 0 * * fri-7', { weekday: [0, 5, 6] }],
  ])('%s', (text, fields) => {
    const cron = cronOf(text);
    for (const [name, values] of Object.entries(fields))
      expect([name, cron[name as keyof Cron].values]).toEqual([name, values]);
  });

  test.each([
    ['', 'a schedule has five fields, not none', /such as 30 4/],
    ['30 4 * *', 'a schedule has five fields, not 4', /weekday/],
    ['0 24 * * *', '24 is not an hour', /^did you mean 23\? it is 0 to 23$/],
    ['61 4 * * *', '61 is not a minute', /did you mean 59\?/],
    ['0 4 0 * *', '0 is not a day of the month', /did you mean 1\?/],
    ['0 4 * * monday', 'monday is not a weekday', /^did you mean mon\? it is 0 to 7 or sun to sat$/],
    ['0 4 * Foo *', 'Foo is not a month', /^it is 1 to 12 or jan to dec$/],
    ['*/0 4 * * *', '0 is not a step of a minute', /whole number/],
    ['0 5-3 * * *', '5-3 of the hour goes backwards', /did you mean 3-5\?/],
    ['0 4 31 2 *', 'there is no day 31 in Feb', /did you mean 29\?/],
    ['0 4 1-2-3 * *', '1-2-3 is not a day of the month', /./],
    ['0 4 ,1 * *', 'nothing is not a day of the month', /./],
  ])('%j is refused with what was meant', (text, message, hint) => {
    const read = parseCron(text);
    expect(read).toMatchObject({ message });
    expect((read as { hint: string }).hint).toMatch(hint);
  });
});

describe('the next starts', () => {
  test.each<[string, string, string, string, readonly string[]]>([
    ['weekdays', '30 4 * * 1-5', 'UTC', '2026-12-04T04:30Z', ['2026-12-07T04:30', '2026-12-08T04:30']],
    [
      'a weekday and a date both have to hold',
      '0 6 13 * 5',
      'UTC',
      '2026-01-01T00:00Z',
      ['2026-02-13T06:00', '2026-03-13T06:00', '2026-11-13T06:00'],
    ],
    ['29 February on a Sunday', '0 0 29 2 0', 'UTC', '2026-01-01T00:00Z', ['2032-02-29T00:00', '2060-02-29T00:00']],
    ['a zone', '0 7 * * *', 'Asia/Tokyo', '2026-05-01T00:00Z', ['2026-05-01T22:00', '2026-05-02T22:00']],
    [
      'a year’s end',
      '59 23 31 12 *',
      'Pacific/Auckland',
      '2026-06-01T00:00Z',
      ['2026-12-31T10:59', '2027-12-31T10:59'],
    ],
    // Paris puts its clocks forward on 28 March 2027 from 02:00 to 03:00, and back on 25 October 2026 from 03:00 to 02:00.
    [
      'a time that does not exist is the first instant after it',
      '30 2 * * *',
      'Europe/Paris',
      '2027-03-26T12:00Z',
      ['2027-03-27T01:30', '2027-03-28T01:00', '2027-03-29T00:30'],
    ],
    [
      'several of them are one',
      '0,15,30 2 * * *',
      'Europe/Paris',
      '2027-03-27T12:00Z',
      ['2027-03-28T01:00', '2027-03-29T00:00'],
    ],
    [
      'an hour that exists twice has a fixed start once',
      '30 2 * * *',
      'Europe/Paris',
      '2026-10-24T12:00Z',
      ['2026-10-25T00:30', '2026-10-26T01:30'],
    ],
    [
      'a step starts at each real instant, twice there',
      '30 */1 * * *',
      'Europe/Paris',
      '2026-10-24T23:00Z',
      ['2026-10-24T23:30', '2026-10-25T00:30', '2026-10-25T01:30', '2026-10-25T02:30'],
    ],
    [
      'and not in the gap',
      '30 * * * *',
      'Europe/Paris',
      '2027-03-27T23:45Z',
      ['2027-03-28T00:30', '2027-03-28T01:30', '2027-03-28T02:30'],
    ],
    // Santiago's gap is at midnight: the day begins at 01:00.
    [
      'a gap at midnight',
      '0 0 * * *',
      'America/Santiago',
      '2026-09-05T12:00Z',
      ['2026-09-06T04:00', '2026-09-07T03:00'],
    ],
    [
      'half an hour of saving',
      '45 1 * * *',
      'Australia/Lord_Howe',
      '2026-04-04T00:00Z',
      ['2026-04-04T14:45', '2026-04-05T15:15'],
    ],
  ])('%s', (_, text, zone, after, expected) => expect(starts(text, zone, after, expected.length)).toEqual(expected));

  test('those that were missed, the newest of many', () => {
    const schedule = { cron: cronOf('0 * * * *'), zone: 'UTC' };
    const [after, until] = [Date.parse('2026-01-01T00:00Z'), Date.parse('2026-01-01T05:00Z')];
    const hours = (most: number) => startsBetween(schedule, [after, until], most).map((i) => new Date(i).getUTCHours());
    expect([hours(10), hours(2)]).toEqual([
      [1, 2, 3, 4, 5],
      [4, 5],
    ]);
  });

  test('are each after the one before, at whole minutes, whatever the zone', () => {
    for (const zone of ['Europe/Paris', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu', 'Pacific/Apia'])
      for (const text of ['*/7 * * * *', '15 1-3 * * *', '0 0 1 * *']) {
        const found = nextStarts({ cron: cronOf(text), zone }, Date.parse('2026-03-01T00:00Z'), 400);
        expect(found.every((s, i) => s % 60_000 === 0 && (i === 0 || s > found[i - 1]!))).toBe(true);
      }
  });
});

test.each([
  ['30 4 * * 1-5', 'Europe/Paris', 'weekdays at 04:30, Paris time'],
  ['0 6,18 * * *', 'UTC', 'each day at 06:00 and 18:00, UTC'],
  ['*/15 * * * *', 'America/New_York', 'every 15 minutes, New York time'],
  ['* * * * *', 'UTC', 'every minute, UTC'],
  ['5 * * * *', 'UTC', 'every hour at :05, UTC'],
  ['0 */6 * * *', 'UTC', 'each day at 00:00, 06:00, 12:00 and 18:00, UTC'],
  ['0 */2 * * *', 'UTC', 'every 2 hours, UTC'],
  ['0,30 8-18 * * 1-5', 'UTC', 'weekdays every 30 minutes from 08:00 to 18:59, UTC'],
  ['0 7 * * 0,4,1', 'UTC', 'Mondays, Thursdays and Sundays at 07:00, UTC'],
  ['0 7 1,15 * *', 'UTC', 'on the 1st and 15th of the month at 07:00, UTC'],
  ['0 7 2 1,7 *', 'UTC', 'on the 2nd of January and July at 07:00, UTC'],
  ['0 7 13 * 5', 'UTC', 'Fridays that are the 13th of the month at 07:00, UTC'],
  ['0 7 * 12 0,6', 'UTC', 'weekends in December at 07:00, UTC'],
])('%s in words', (text, zone, words) => expect(scheduleWords(cronOf(text), zone)).toBe(words));

test.each([
  ['Europe/Paris', true, undefined],
  ['UTC', true, undefined],
  ['Europe/Pariss', false, 'Europe/Paris'],
  ['Paris', false, 'Europe/Paris'],
  ['+02:00', false, undefined],
])('%s is a zone: %s', (zone, is, near) => {
  expect(isZone(zone)).toBe(is);
  if (near) expect(nearestZone(zone)).toBe(near);
});
