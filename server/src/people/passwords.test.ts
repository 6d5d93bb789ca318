import { expect, test } from '@jest/globals';
import { passwordFault } from './passwords.js';

test.each([
  ['short', 'nine char', 'A password has at least 10 characters'],
  ['short in characters, not in bytes', '🌊🌊🌊🌊🌊', 'A password has at least 10 characters'],
  ['a few characters', 'ababababab', 'The password repeats a few characters'],
  ['common', 'qwertyuiop', 'Many people have this password'],
  ['common in capitals', 'QWERTYUIOP', 'Many people have this password'],
  ['common with figures behind it', 'Password2026!', 'Many people have this password'],
  ['the name', 'Mira Okafor', 'The password is your name'],
  ['the name with figures behind it', 'mira okafor77', 'The password is your name'],
  ['four words', 'quay lantern forty ribbon', undefined],
  ['ten characters of no word', 'x7Qp-t2mLw', undefined],
  ['letters of another script', 'мачтовый причал', undefined],
])('%s', (_, password, fault) => expect(passwordFault(password, ['mira', 'Mira Okafor'])).toBe(fault));
