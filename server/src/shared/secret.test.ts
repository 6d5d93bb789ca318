import { expect, test } from '@jest/globals';
import { randomBytes } from 'node:crypto';
import { Attempts } from '../people/attempts.js';
import { sameText, seal, unseal } from './secret.js';

test('a sealed secret opens with its key only, and only unchanged', () => {
  const key = randomBytes(32);
  const sealed = seal(key, 'pass é word');
  expect(sealed).not.toContain('pass');
  expect(unseal(key, sealed)).toBe('pass é word');
  expect(() => unseal(randomBytes(32), sealed)).toThrow();
  expect(() => unseal(key, `${sealed.slice(0, -2)}AA`)).toThrow();
});

test('texts are compared whole', () => expect([sameText('a', 'a'), sameText('a', 'ab')]).toEqual([true, false]));

test('attempts are slowed down within the window and forgotten after it', () => {
  let now = 0;
  const attempts = new Attempts(2, 1000, () => now);
  expect([attempts.count('x'), attempts.count('x'), attempts.count('x') > 0, attempts.count('y')]).toEqual([0, 0, true, 0]);
  now = 2000;
  expect(attempts.count('x')).toBe(0);
});
