import { describe, expect, test } from '@jest/globals';
import { compareRows, type TextRow } from './compare.js';
import { meansMember } from './member-text.js';

const rows = (text: string): TextRow[] =>
  text === '' ? [] : text.split(' ').map((row) => row.split('|').map((v) => (v === '-' ? null : v)));
const inShort = (expected: string, actual: string, key: readonly number[] = []) =>
  compareRows(rows(expected), rows(actual), { key })
    .map(
      (r) =>
        `${r.kind} ${(r.expected ?? r.actual)!.map((v) => v ?? '-').join('|')}${r.cells.length ? ` @${r.cells.join()}` : ''}`,
    )
    .join('; ');

describe('rows compared', () => {
  test.each([
    ['nothing with nothing', '', '', [], ''],
    ['another order', 'a|1 b|2', 'b|2 a|1', [], 'same a|1; same b|2'],
    ['one of two equal rows', 'a|1 a|1', 'a|1', [], 'same a|1; missing a|1'],
    ['one equal row more', 'a|1', 'a|1 a|1', [], 'same a|1; extra a|1'],
    [
      'by the key, though another is likelier',
      'a|1|1 b|2|2',
      'b|1|1 a|9|9',
      [0],
      'differs a|1|1 @1,2; differs b|2|2 @1,2',
    ],
    ['by the most equal values', 'a|1|1 b|2|2', 'x|1|1 b|9|9', [], 'differs a|1|1 @0; differs b|2|2 @1,2'],
    ['nothing in common', 'a|1', 'b|2', [], 'missing a|1; extra b|2'],
    ['null is a value', 'a|-', 'a|-', [0], 'same a|-'],
    ['null is no text', 'a|-', 'a|null', [0], 'differs a|- @1'],
    ['a key that is not there', 'a|1 c|3', 'a|1 b|3', [0], 'same a|1; missing c|3; extra b|3'],
  ])('%s', (_, expected, actual, key, result) => {
    expect(inShort(expected, actual, key as number[])).toBe(result);
  });

  test('every row of both sides is in it once, and equal multisets are the same (seeded)', () => {
    let seed = 7;
    const next = (n: number) => (seed = (seed * 1103515245 + 12345) % 2147483648) % n;
    for (let round = 0; round < 200; round++) {
      const some = () => Array.from({ length: next(6) }, () => [String(next(3)), String(next(3))]);
      const [expected, actual] = [some(), some()];
      const compared = compareRows(expected, actual, { key: next(2) ? [0] : [] });
      const sorted = (list: readonly (TextRow | null)[]) => list.flatMap((r) => (r ? [r.join()] : [])).sort();
      expect(sorted(compared.map((r) => r.expected))).toEqual(sorted(expected));
      expect(sorted(compared.map((r) => r.actual))).toEqual(sorted(actual));
      expect(compared.every((r) => r.kind === 'same')).toBe(sorted(expected).join() === sorted(actual).join());
    }
  });
});

test.each([
  ['N1', 'N1', true],
  ['N1', 'N1 from 2025-01-01 00:00:00+00', true],
  ['N1 from 2025-01-01', 'N1 from 2025-01-01 00:00:00+00', true],
  ['N1 from 2025-01-02', 'N1 from 2025-01-01 00:00:00+00', false],
  ['N', 'N1', false],
  ['unknown', 'N1', false],
  [null, null, true],
  [null, 'N1', false],
])('%p means %p: %p', (expected, actual, means) => {
  expect(meansMember(expected, actual)).toBe(means);
});
