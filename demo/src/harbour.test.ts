import { describe, expect, test } from '@jest/globals';
import { copyText, FIRST_DAYS, harbourAt, hullNumber, SIZES } from './index.js';

const table = (day: number, name: string) => harbourAt(day).find((t) => t.name === name)!;

describe('the harbour', () => {
  test('is the same for the same day, and moves on', () => {
    expect(harbourAt(20)).toEqual(harbourAt(20));
    expect(table(21, 'calls').rows.length).toBeGreaterThan(table(20, 'calls').rows.length);
  });
  test('of another seed is another one', () =>
    expect(harbourAt(5, SIZES.small, 1)).not.toEqual(harbourAt(5, SIZES.small, 2)));
  test('keeps yesterday’s calls, corrected or not', () => {
    const today = new Set(table(31, 'calls').rows.map((r) => r[0]));
    expect(table(30, 'calls').rows.every((r) => today.has(r[0]))).toBe(true);
  });
  test('plants what a warehouse has to cope with', () => {
    const calls = table(FIRST_DAYS, 'calls').rows;
    expect(calls.length - new Set(calls.map((r) => r[0])).size).toBeGreaterThan(3);
    expect(table(FIRST_DAYS, 'vessels').rows.filter((r) => r[2] === null).length).toBeGreaterThan(2);
    expect(table(FIRST_DAYS, 'vessels').rows.some((r) => r[6] !== null)).toBe(true);
  });
  test('every payment is of an invoice, every invoice of a call', () => {
    const invoices = new Set(table(40, 'dues_invoices').rows.map((r) => r[0]));
    const calls = new Set(table(40, 'calls').rows.map((r) => r[0]));
    expect(table(40, 'payments').rows.every((r) => invoices.has(r[1]!))).toBe(true);
    expect(table(40, 'dues_invoices').rows.every((r) => calls.has(r[2]!))).toBe(true);
  });
});

test('hull numbers have a check digit and differ', () => {
  const numbers = Array.from({ length: 2000 }, (_, n) => hullNumber(n));
  expect(new Set(numbers).size).toBe(2000);
  for (const hull of numbers) {
    const digits = hull.slice(3);
    const sum = [...digits.slice(0, -1)].reduce((s, d, i) => s + Number(d) * (i + 2), 0);
    expect(sum % 7).toBe(Number(digits.at(-1)));
  }
});

test('copy text escapes what COPY reads specially', () =>
  expect(copyText([[1, null, 'a\tb\\c\nd']])).toBe('1\t\\N\ta\\tb\\\\c\\nd\n'));
