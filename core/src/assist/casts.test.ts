import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { castBlock, isTypeName, readCasts } from './casts.js';

beforeAll(loadParser);

describe('the name of a type', () => {
  test.each([
    ['date', true],
    ['numeric(10, 2)', true],
    ['double precision', true],
    ['core.state', true],
    ['text[]', true],
    ['interval day to second', true],
    ['', false],
    ['date)', false],
    ['date) from core.x --', false],
    ['date); drop table core.x; select (1', false],
    ['date), 2', false],
    ['date) union select (1', false],
    ['date) where pg_sleep(1) is null or (true', false],
    ['text collate "C"', false],
    ['date -- of arrival', true],
  ])('%s: %s', (type, is) => expect(isTypeName(type)).toBe(is));
});

test('each value is tried alone, and what failed is left in a setting', () =>
  expect(castBlock("select 'a''b' as \"X\"", [{ column: 'X', type: 'date' }])).toMatchSnapshot());

test('what was left is read by the order of the casts', () =>
  expect(readCasts([{ column: 'd', type: 'date' }], '[{"failing": 3, "different": 2, "examples": ["x"]}]')).toEqual([
    { column: 'd', type: 'date', failing: 3, different: 2, examples: ['x'] },
  ]));
