import { describe, expect, test } from '@jest/globals';
import type { TableSummary } from '../../worker/protocol';
import { focusOn } from './focus';

const table = (fullName: string, reads: readonly string[]) => ({ fullName, reads }) as TableSummary;
/** a → b → c → d, and e apart. */
const TABLES = [table('a', []), table('b', ['a']), table('c', ['b', 'x']), table('d', ['c']), table('e', [])];

describe('the tables around one', () => {
  test.each<[string, string | undefined, number, number, string, string]>([
    ['all of them without a focus', undefined, 1, 1, 'abcde', 'ab bc cd'],
    ['all of them where the focus is gone', 'z', 1, 1, 'abcde', 'ab bc cd'],
    ['one step up and down', 'b', 1, 1, 'abc', 'ab bc'],
    ['upstream only', 'c', 9, 0, 'abc', 'ab bc'],
    ['downstream only', 'b', 0, 9, 'bcd', 'bc cd'],
    ['the one alone', 'c', 0, 0, 'c', ''],
    ['one that nothing is around', 'e', 9, 9, 'e', ''],
  ])('%s', (_, focus, up, down, names, edges) => {
    const shown = focusOn(TABLES, focus, up, down);
    expect(shown.tables.map((t) => t.fullName).join('')).toBe(names);
    expect(shown.edges.map((e) => e.join('')).join(' ')).toBe(edges);
  });
});
