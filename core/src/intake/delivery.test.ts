import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { detectDecimal, detectDelimiter, matchFileName, triedNames, withPoint } from './delivery.js';
import { valueProblem } from '../language/value-problem.js';

beforeAll(loadParser);

describe('names of files', () => {
  test.each([
    ['berth_rates_{as_of:date}.csv', 'berth_rates_2026-03-01.csv', { as_of: '2026-03-01' }],
    ['berth_rates_{as_of:date}.csv', 'berth_rates_20260301.csv', { as_of: '2026-03-01' }],
    ['berth_rates_{as_of:date}.csv', 'berth_rates_2026-02-30.csv', undefined],
    ['berth_rates_{as_of:date}.csv', 'berth_rates_.csv', undefined],
    ['{terminal}_calls_{part:integer}.jsonl', 'north_quay_calls_12.jsonl', { terminal: 'north_quay', part: '12' }],
    ['tide.csv', 'tide.csv', {}],
    ['tide.csv', 'tideXcsv', undefined],
    ['tide*.csv', 'tide (copy).csv', {}],
  ])('%s and %s', (pattern, name, expected) => {
    const parts = matchFileName(pattern, name);
    expect(parts && Object.fromEntries(parts)).toEqual(expected);
  });
});

describe('what a file is written with', () => {
  test.each([
    ['a,b,c', ','],
    ['a;b;c', ';'],
    ['"a,b";c;d', ';'],
    ['a\tb', '\t'],
    ['a|b|c', '|'],
    ['alone', ','],
  ])('%s is delimited by %j', (line, expected) => expect(detectDelimiter(line)).toBe(expected));
  test.each([
    [['1,5', '2'], ','],
    [['1.5', '2'], '.'],
    [['1.204,50'], ','],
    [['1', '2'], '.'],
    [['1,5', '1.5'], '.'],
    [['x,y'], '.'],
  ])('%j has the decimal sign %s', (values, expected) => expect(detectDecimal(values)).toBe(expected));
  test.each([
    ['1.204,50', '1204.50'],
    ['1 204,5', '1204.5'],
    ['-0,25', '-0.25'],
    ['12', '12'],
    ['1.204', '1204'],
  ])('%s is %s', (value, expected) => expect(withPoint(value)).toBe(expected));
});

describe('values of types', () => {
  test.each([
    ['integer', '12', undefined],
    ['integer', ' -12 ', undefined],
    ['integer', '1.5', 'is not a whole number'],
    ['integer', '2147483648', 'does not fit integer'],
    ['bigint', '9223372036854775807', undefined],
    ['smallint', '-32769', 'does not fit smallint'],
    ['numeric', '1e5', undefined],
    ['numeric', '.', 'is not a number'],
    ['numeric', '1,5', 'is not a number'],
    ['numeric(4,1)', '999.94', undefined],
    ['numeric(4,1)', '999.95', 'does not fit numeric(4,1)'],
    ['numeric(4,1)', '1000', 'does not fit numeric(4,1)'],
    ['double precision', 'Infinity', undefined],
    ['boolean', 'Yes', undefined],
    ['boolean', 'maybe', 'is neither true nor false'],
    ['date', '2024-02-29', undefined],
    ['date', '2026-02-29', 'is not a calendar day'],
    ['date', '01.03.2026', 'is not a date such as 2026-03-01'],
    ['timestamptz', '2026-03-01T14:05:00Z', undefined],
    ['timestamptz', '2026-03-01 14:05:00.25+01:00', undefined],
    ['timestamptz', '2026-03-01', undefined],
    ['timestamptz', '2026-03-01 24:05', 'is not a time of day'],
    ['timestamp', 'yesterday', 'is not a timestamp such as 2026-03-01 14:05:00+00'],
    ['uuid', 'x', 'is not a UUID'],
    ['varchar(3)', 'abcd', 'is longer than 3'],
    ['varchar(3)', 'äöü', undefined],
    ['jsonb', '{', 'is not valid JSON'],
    ['text', 'anything', undefined],
    ['inet', 'the database has the last word', undefined],
  ])('%s of %s', (type, value, expected) => expect(valueProblem(type, value)).toBe(expected));
});

test('names are tried against all patterns of the drop folder, and of none else', () => {
  const project = projectOf({
    'sources/drop.sql': `create server drop foreign data wrapper file_fdw;
create foreign table landing.rate (as_of date, rate numeric) server drop options (pattern 'rates_{as_of:date}.csv');
create foreign table landing.any (name text, x text) server drop options (pattern '{name}.csv');`,
  });
  expect(triedNames(project, ['rates_20260301.csv', 'rates_2026-02-30.csv', 'x.txt'])).toEqual([
    {
      name: 'rates_20260301.csv',
      table: 'landing.rate',
      pattern: 'rates_{as_of:date}.csv',
      parts: [['as_of', '2026-03-01']],
      also: ['landing.any'],
    },
    {
      name: 'rates_2026-02-30.csv',
      table: 'landing.any',
      pattern: '{name}.csv',
      parts: [['name', 'rates_2026-02-30']],
      also: [],
    },
    { name: 'x.txt', parts: [], also: [] },
  ]);
});
