import { describe, expect, test } from '@jest/globals';
import type { ColumnProfile } from '@ouvrage/core/model';
import { barsOf } from './profile-bars';

const column = (of: Partial<ColumnProfile>): ColumnProfile =>
  ({
    name: 'c',
    type: 'text',
    shape: 'text',
    nulls: 0,
    distinct: 3,
    least: null,
    greatest: null,
    mean: null,
    quantiles: null,
    frequent: [],
    histogram: null,
    ...of,
  }) as ColumnProfile;

describe('values that are few are bars of their own', () => {
  test.each<[string, Partial<ColumnProfile>, unknown[]]>([
    [
      'with empty texts and nulls by name',
      {
        frequent: [
          ['NQ', 12],
          ['', 2],
        ] as never,
        nulls: 4,
      },
      [
        ['NQ', 12, [{ column: 'c', op: '=', value: 'NQ' }]],
        ['(empty)', 2, [{ column: 'c', op: '=', value: '' }]],
        ['(null)', 4, [{ column: 'c', op: 'is null' }]],
      ],
    ],
    [
      'also where there is a histogram',
      {
        shape: 'number',
        type: 'integer',
        distinct: 1,
        least: '1',
        greatest: '1',
        frequent: [['1', 9]] as never,
        histogram: [[0, 9]] as never,
      },
      [['1', 9, [{ column: 'c', op: '=', value: '1' }]]],
    ],
    ['and none where there is nothing', { distinct: null }, []],
  ])('%s', (_, of, expected) => expect(barsOf(column(of)).map((b) => [b.label, b.count, b.filters])).toEqual(expected));
});

describe('many values are steps from the least to the greatest', () => {
  const many = (type: string, shape: string, least: string, greatest: string) =>
    barsOf(
      column({
        type,
        shape,
        least,
        greatest,
        distinct: 900,
        histogram: [
          [0, 5],
          [19, 7],
        ],
      } as never),
    );
  test.each<[string, string, string, string, string, string, string]>([
    ['numbers', 'numeric', 'number', '0', '100', '0 to 5', '95 to 100'],
    ['days', 'date', 'instant', '2026-01-01', '2026-01-21', '2026-01-01 to 2026-01-02', '2026-01-20 to 2026-01-21'],
    [
      'instants with a zone',
      'timestamptz',
      'instant',
      '2026-01-01 00:00:00+00',
      '2026-01-01 20:00:00+00',
      '2026-01-01 00:00:00 to 2026-01-01 01:00:00',
      '2026-01-01 19:00:00 to 2026-01-01 20:00:00',
    ],
    [
      'instants without one, read as UTC',
      'timestamp',
      'instant',
      '2026-01-01 00:00:00',
      '2026-01-01 20:00:00',
      '2026-01-01 00:00:00 to 2026-01-01 01:00:00',
      '2026-01-01 19:00:00 to 2026-01-01 20:00:00',
    ],
  ])('%s', (_, type, shape, least, greatest, first, last) => {
    const bars = many(type, shape, least, greatest);
    expect(bars.length).toBe(20);
    expect([bars[0]!.label, bars[19]!.label]).toEqual([first, last]);
    expect(bars.map((b) => b.count)).toEqual([5, ...Array<number>(18).fill(0), 7]);
    // The ends are the values themselves, so that filters lose no row to rounding.
    expect(bars[0]!.filters[0]).toEqual({ column: 'c', op: '>=', value: least });
    expect(bars[19]!.filters[1]).toEqual({ column: 'c', op: '<=', value: greatest });
    expect(bars[1]!.filters.map((f) => f.op)).toEqual(['>=', '<']);
  });
  test('none where an end is infinite', () => expect(many('double precision', 'number', '-Infinity', '5')).toEqual([]));
});
