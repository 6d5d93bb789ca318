import { describe, expect, test } from '@jest/globals';
import { chanceOf, measuring, shareError } from './measures.js';

const PLACE = { schema: 'core', name: 'fact_call' };
const columns = (n: number) => Array.from({ length: n }, (_, i) => ({ name: `c${i}`, type: 'text' }));
/** The share of the blocks that is sampled, in percent; undefined where the table is measured whole. */
const sampled = (of: { columns: number; rows: number; milliseconds: number }): number | undefined => {
  const { sql, isSampled } = measuring(columns(of.columns), PLACE, of);
  const percent = /tablesample system \(([\d.]+)\)/.exec(sql)?.[1];
  expect(isSampled).toBe(percent !== undefined);
  return percent === undefined ? undefined : Number(percent);
};

describe('as many rows are looked at as the time allows', () => {
  test.each([
    ['a small table is measured whole', { columns: 4, rows: 500, milliseconds: 10 }, undefined],
    ['one of many columns only where it is smaller', { columns: 10, rows: 200, milliseconds: 10 }, undefined],
    [
      'one of few rows is looked at whole, though not all its values are told apart',
      { columns: 10, rows: 201, milliseconds: 10 },
      100,
    ],
    ['else a sample of it', { columns: 16, rows: 5000, milliseconds: 10 }, 10],
    ['never fewer than 300 rows', { columns: 100, rows: 3000, milliseconds: 10 }, 10],
    ['a larger one is sampled', { columns: 4, rows: 200_000, milliseconds: 10 }, 0.25],
    ['how long its load took says nothing then', { columns: 4, rows: 200_000, milliseconds: 60_000 }, 0.25],
    ['from a million rows on it is a share of the load', { columns: 8, rows: 1_000_000, milliseconds: 900 }, 0.75],
    ['up to 30,000 rows', { columns: 8, rows: 1_000_000, milliseconds: 90_000 }, 3],
    ['a load of no time leaves the fewest', { columns: 8, rows: 1_000_000, milliseconds: 0 }, 0.03],
  ])('%s', (_, of, percent) => {
    const found = sampled(of);
    if (percent === undefined) expect(found).toBeUndefined();
    else expect(found).toBeCloseTo(percent, 2);
  });
});

test('of a sensitive column only shares are measured, of a quantity what is least, greatest and the mean, too', () => {
  const { names } = measuring(
    [
      { name: 'owner', type: 'text', isSensitive: true },
      { name: 'income', type: 'numeric(12,2)', isSensitive: true },
      { name: 'tonnes', type: 'numeric(12,2)' },
      { name: 'marks', type: 'jsonb' },
    ],
    PLACE,
    { rows: 10, milliseconds: 1 },
  );
  expect(names).toEqual([
    'rows looked at',
    'null share of owner',
    'null share of income',
    'null share of tonnes',
    'least tonnes',
    'greatest tonnes',
    'mean tonnes',
    'null share of marks',
    'distinct share of owner',
    'top-ten share of owner',
    'distinct share of income',
    'top-ten share of income',
    'distinct share of tonnes',
    'top-ten share of tonnes',
  ]);
});

test.each([
  [1, 500],
  [4, 150],
  [10, 60],
  [12, 50],
  [100, 50],
])('of a sample of %p columns values are told apart in %p rows', (n, rows) => {
  const { sql, toldApart } = measuring(columns(n), PLACE, { rows: 200_000, milliseconds: 10 });
  expect([toldApart, sql.includes(`limit ${rows}`)]).toEqual([rows, true]);
});

test.each([
  [5000, 12],
  [1_000_000, 100],
])('of a table of %p rows and 100 columns the values of %p are told apart', (rows, n) => {
  const { names } = measuring(columns(100), PLACE, { rows, milliseconds: 10 });
  expect(names.filter((name) => name.startsWith('distinct'))).toHaveLength(n);
});

test.each([
  ['rows', 100, false, {}],
  ['mean tonnes', 0.5, false, {}],
  ['null share of a', 0.5, false, { error: shareError(0.5, { rows: 10_000, isSampled: false }) }],
  ['null share of a', 0.5, true, { error: shareError(0.5, { rows: 10_000, isSampled: true }) }],
  ['distinct share of a', 0.5, true, { error: shareError(0.5, { rows: 250, isSampled: true }) }],
  ['top-ten share of a', 0.5, false, { error: shareError(0.5, { rows: 10_000, isSampled: false }) }],
])('the chance in %s of %p, sampled: %p', (name, value, isSampled, chance) =>
  expect(chanceOf(name, value, { rows: 10_000, toldApart: 250, isSampled })).toEqual(chance),
);
