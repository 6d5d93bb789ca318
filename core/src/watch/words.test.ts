import { expect, test } from '@jest/globals';
import { ageWords, measureWords } from './words.js';

test.each([
  [-3, '0 s'],
  [59.9, '59 s'],
  [60, '1 min'],
  [3599, '59 min'],
  [3600, '1 h'],
  [86_399, '23 h'],
  [86_400, '1 d'],
  [183_600, '2 d 3 h'],
])('an age of %p seconds is %s', (seconds, words) => expect(ageWords(seconds)).toBe(words));

test.each([
  ['age', 172_860, '2 d'],
  ['null share of flag_code', 0.0213, '2.13 %'],
  ['null share of flag_code', 0.25, '25.0 %'],
  ['rows', 1_234_567, '1,234,567'],
  ['mean of tonnage', 1234.5678, '1,234.6'],
])('%s of %p is read as %s', (measure, value, words) => expect(measureWords(measure, value)).toBe(words));
