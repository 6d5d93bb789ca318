import { expect, test } from '@jest/globals';
import { cell, count, duration, isNumeric, plural, rows } from './format';

test.each<[unknown, string]>([
  [count(1204), '1,204'],
  [count('12345678901234567890'), '12,345,678,901,234,567,890'],
  [count(null), '–'],
  [rows('1'), '1 row'],
  [rows(0), '0 rows'],
  [plural(2, 'check'), '2 checks'],
  [duration(84), '84 ms'],
  [duration(1240), '1.2 s'],
  [duration(200_000), '3 min 20 s'],
  [cell('18240.0', 'numeric(10,1)'), '18,240.0'],
  [cell('-1234567', 'bigint'), '-1,234,567'],
  [cell('NaN', 'numeric'), 'NaN'],
  [cell('10482', 'text'), '10482'],
  [isNumeric('numeric(10,1)'), true as never],
])('%j', (shown, expected) => expect(shown).toEqual(expected));
