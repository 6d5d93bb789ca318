import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { quickFix } from './quick-fix.js';

beforeAll(() => loadParser());

const AROUND: readonly (readonly [string, string])[] = [
  ['layers.sql', 'create schema landing; create schema staging;'],
  ['parameters.sql', "set param.since = '2026-01-01';"],
  ['functions/tidy.sql', 'create function functions.tidy(t text) returns text immutable return trim(t);'],
  [
    'sources/s.sql',
    'create server s foreign data wrapper postgres_fdw; create foreign table landing.berth (berth_code text, "Depth m" numeric) server s;',
  ],
];

/** The text after the fix of its first diagnostic that has one. */
function fixed(text: string, path = 'staging/x.sql'): string | undefined {
  const { diagnostics } = readProject(new Map([...AROUND, [path, text]]));
  for (const d of diagnostics.filter((one) => one.path === path)) {
    const fix = quickFix(text, d);
    if (fix) return text.slice(0, fix.start) + fix.insert + text.slice(fix.end);
  }
  return undefined;
}

describe('a wrong name is replaced with the one that was probably meant', () => {
  test.each<[string, string, string | undefined]>([
    ['a table', 'select berth_code from landing.berht;', 'select berth_code from landing.berth;'],
    ['a layer', 'select berth_code from landin.berth;', 'select berth_code from landing.berth;'],
    [
      'a column behind an alias',
      'select b.berth_cod from landing.berth b;',
      'select b.berth_code from landing.berth b;',
    ],
    ['a name that needs quotes', 'select "Depth n" from landing.berth;', 'select "Depth m" from landing.berth;'],
    ['an alias', 'select brth.berth_code from landing.berth;', 'select berth.berth_code from landing.berth;'],
    [
      'a function',
      'select functions.tdy(berth_code) as b from landing.berth;',
      'select functions.tidy(berth_code) as b from landing.berth;',
    ],
    [
      'an option',
      'create table staging.x (berth_code text) with (laod = rebuild); select berth_code from landing.berth;',
      'create table staging.x (berth_code text) with (load = rebuild); select berth_code from landing.berth;',
    ],
    [
      'a column of a contract',
      'create table staging.x (berth_cod text); select berth_code from landing.berth;',
      'create table staging.x (berth_code text); select berth_code from landing.berth;',
    ],
    [
      'a column of a constraint',
      'create table staging.x (berth_code text, primary key (bert_code)); select berth_code from landing.berth;',
      'create table staging.x (berth_code text, primary key (berth_code)); select berth_code from landing.berth;',
    ],
    ['nothing is near', 'select zzz from landing.berth;', undefined],
    ['nothing is wrong', 'select berth_code from landing.berth;', undefined],
  ])('%s', (_, text, expected) => expect(fixed(text)).toBe(expected));

  test('a text that has changed since is left alone', () => {
    const text = 'select berth_cod from landing.berth;';
    const [d] = readProject(new Map([...AROUND, ['staging/x.sql', text]])).diagnostics;
    expect(quickFix(text.replace('berth_cod', 'berth_code'), d!)).toBeUndefined();
  });
});
