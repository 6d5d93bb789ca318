import { beforeAll, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { fingerprints } from './fingerprint.js';
import { staleTables } from './stale.js';

beforeAll(() => loadParser());

const PROJECT = {
  'layers.sql': 'create schema landing; create schema staging; create schema core; create schema mart;',
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
create foreign table landing.a (n integer) server s;
create foreign table landing.b (n integer) server s;`,
  'staging/a.sql': 'select n from landing.a',
  'core/a.sql': 'create table core.a (n integer) with (load = rebuild);\nselect n from staging.a;',
  'core/b.sql': 'create table core.b (n integer) with (load = rebuild);\nselect n from landing.b;',
  'core/today.sql': 'create table core.today (d date) with (load = rebuild);\nselect current_date as d;',
  'mart/ab.sql':
    'create table mart.ab (n integer) with (load = rebuild);\nselect a.n from core.a as a join core.b as b on b.n = a.n;',
};
const ALL = ['landing.a', 'landing.b', 'staging.a', 'core.a', 'core.b', 'core.today', 'mart.ab'];

/** @param at when each table was loaded, 10 where nothing is said, never where it is null */
function stale(at: Readonly<Record<string, number | null>>, today = 0, text = PROJECT): string[] {
  const [project, loaded] = [text, PROJECT].map((p) => readProject(new Map(Object.entries(p))));
  const prints = fingerprints(loaded!);
  const loads = new Map(
    ALL.flatMap((t) => (at[t] === null ? [] : [[t, { fingerprint: prints.get(t) ?? '', at: at[t] ?? 10 }] as const])),
  );
  return [...staleTables(project!, loads, today)].sort();
}

test.each<[string, Readonly<Record<string, number | null>>, readonly string[]]>([
  ['nothing, where all was loaded in its order', { 'core.a': 11, 'core.b': 11, 'mart.ab': 12 }, []],
  ['what was never built, and what reads it', { 'core.a': null }, ['core.a', 'mart.ab']],
  ['what is older than rows behind a view, and what reads it', { 'landing.a': 20 }, ['core.a', 'mart.ab']],
  ['what is older than what it reads', { 'core.b': 12, 'core.a': 11 }, ['mart.ab']],
  ['one side of a join', { 'landing.b': 13, 'mart.ab': 12 }, ['core.b', 'mart.ab']],
])('%s', (_, at, expected) => expect(stale(at)).toEqual(expected));

test('what asks the time, once a day', () => {
  expect(stale({ 'core.today': 15 }, 20)).toEqual(['core.today']);
  expect(stale({ 'core.today': 15 }, 12)).toEqual([]);
});

test('what is of another definition, and what reads it; a view that changed alone is loaded with them', () => {
  const changed = { ...PROJECT, 'staging/a.sql': 'select n + 1 as n from landing.a' };
  expect(stale({ 'core.a': 11, 'core.b': 11, 'mart.ab': 12 }, 0, changed)).toEqual(['core.a', 'mart.ab', 'staging.a']);
});
