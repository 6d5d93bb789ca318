import { expect, test } from '@jest/globals';
import { randomBytes } from 'node:crypto';
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
