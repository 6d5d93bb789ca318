import { dictionary } from '@zxcvbn-ts/language-common';
import { hash, verify } from '@node-rs/argon2';
import { Problem } from '../shared/problem.js';
import { randomToken } from '../shared/secret.js';

/** Characters of a password: fewer are guessed, more are nobody's. */
export const LEAST_PASSWORD = 10;
export const MOST_PASSWORD = 200;

/** Passwords that many people have, in lower case. */
const COMMON: ReadonlySet<string> = new Set(dictionary['passwords-common']);

/** Digits and signs behind a word do not make another password of it. */
const bare = (text: string): string => text.replace(/[^\p{L}]+$/u, '');

/**
 * What is wrong with a password that somebody chooses, in words; undefined where nothing is.
 * @param names what the person is called, which others know
 */
export function passwordFault(password: string, names: readonly string[]): string | undefined {
  const lower = password.toLowerCase();
  if ([...password].length < LEAST_PASSWORD) return `A password has at least ${LEAST_PASSWORD} characters`;
  if (new Set(lower).size < 4) return 'The password repeats a few characters';
  if (COMMON.has(lower) || COMMON.has(bare(lower))) return 'Many people have this password';
  const known = names.map((n) => n.toLowerCase());
  if (known.includes(lower) || known.includes(bare(lower))) return 'The password is your name';
  return undefined;
}

/** @throws Problem 422 where a password is too easily guessed */
export function refuseWeak(password: string, names: readonly string[]): void {
  const fault = passwordFault(password, names);
  if (fault !== undefined)
    throw new Problem(
      422,
      'weak-password',
      fault,
      'Choose a longer one, such as four words that have nothing in common.',
    );
}

/** What is kept of a password. */
export const passwordHash = (password: string): Promise<string> => hash(password);

export const isPassword = (kept: string, given: string): Promise<boolean> => verify(kept, given);

/** What is kept of a person who has no password yet: nothing opens it. */
export const noPassword = (): Promise<string> => hash(randomToken());
