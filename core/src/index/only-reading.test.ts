import { beforeAll, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { readProject } from '../resolve/read-project.js';

beforeAll(() => loadParser());

const BASE = { 'layers.sql': 'create schema staging; create schema core;', 'staging/keep.sql': 'select 1 as n' };

/** The words at which something is said to do more than read. */
function effects(path: string, text: string): string[] {
  const { diagnostics, files } = readProject(new Map(Object.entries({ ...BASE, [path]: text })));
  return diagnostics
    .filter((d) => d.code === 'not-only-reading')
    .map((d) => `${files.get(d.path)!.text.slice(d.range.start, d.range.end)}: ${d.message}`);
}

test.each<[string, string, RegExp]>([
  [
    'delete in a CTE',
    'create table core.t as with gone as (delete from staging.keep returning n) select n from gone',
    /^staging: delete is not allowed in a query/,
  ],
  [
    'insert in a CTE',
    'with i as (insert into staging.keep values (1) returning n) select n from i',
    /^staging: insert/,
  ],
  ['update in a CTE', 'with i as (update staging.keep set n = 2 returning n) select n from i', /^staging: update/],
  [
    'merge in a CTE',
    'with i as (merge into staging.keep k using staging.keep q on q.n = k.n when matched then delete returning k.n) select n from i',
    /^staging: merge/,
  ],
  [
    'delete in a CTE of a subquery',
    'select n from (with gone as (delete from staging.keep returning n) select n from gone) x',
    /^staging: delete/,
  ],
  ['select into', 'select n into core.x from staging.keep', /^core: select into/],
  ['for update', 'select n from staging.keep for update', /^select: a query cannot lock rows/],
  ['for share of a table', 'select k.n from staging.keep k for share of k', /^k: a query cannot lock rows/],
  ['a parameter', 'select n from staging.keep where n = $1', /^\$1: \$1 has no value/],
  ['nextval', "select nextval('s') as n", /^nextval: /],
  ['nextval by its full name', "select pg_catalog.nextval('s') as n", /^pg_catalog: nextval/],
  ['a lock', 'select 1 as n where pg_try_advisory_xact_lock(1)', /^pg_try_advisory_xact_lock: /],
  ['a setting', "select set_config('a.b', 'c', false) as n", /^set_config: /],
  ['SQL in a string', "select query_to_xml('delete from staging.keep', true, true, '') as n", /^query_to_xml: /],
  ['a large object', 'select lo_unlink(1) as n', /^lo_unlink: /],
  ['waiting', 'select pg_sleep(10) as n', /^pg_sleep: /],
  ['a check', "create table core.t (n int check (nextval('s') > 0)); select 1 as n", /^nextval: /],
])('%s in a definition is an error at its place', (_, text, message) =>
  expect(effects('core/t.sql', text)).toEqual([expect.stringMatching(message)]),
);

test.each([
  ['a query that names them as columns', 'select k.n as nextval from staging.keep k'],
  ['functions of the project of the same name', 'select functions.nextval(n) as n from staging.keep'],
  [
    'what PostgreSQL offers to read',
    "select now() as t, gen_random_uuid() as u, current_setting('timezone') as z, random() as r",
  ],
])('%s is left alone', (_, text) => expect(effects('core/t.sql', text)).toEqual([]));

test('files of checks and ad hoc queries only read, too', () => {
  expect(
    effects('checks/c.sql', 'create view checks.c as with d as (delete from staging.keep returning n) select n from d'),
  ).toHaveLength(1);
  expect(effects('adhoc/a.sql', 'select n from staging.keep for update')).toHaveLength(1);
});

const body = (rest: string) => `create function functions.f(a int) returns int ${rest}`;

test.each<[string, string, RegExp | undefined]>([
  ['immutable', body('language sql immutable return a'), undefined],
  ['stable in plpgsql', body('language plpgsql stable as $$ begin return a; end $$'), undefined],
  ['without a word about it', body('language sql return a'), /not declared immutable or stable/],
  ['declared volatile', body('language sql volatile return a'), /^volatile: .*declared volatile/],
  [
    'with its owner’s rights',
    body('language sql stable security definer return a'),
    /^security: .*rights of their caller/,
  ],
  ['with the caller’s rights', body('language sql stable security invoker return a'), undefined],
  ['with a role', body('language sql stable set role postgres return a'), /cannot change the role/],
  [
    'in another language',
    body("language plpython3u immutable as 'return 1'"),
    /functions cannot be written in plpython3u/,
  ],
  ['with execute', body("language plpgsql stable as $$ begin execute 'select 1'; return a; end $$"), /^execute: /],
  ['with a call that writes', body('language sql stable return lo_unlink(a)'), /^lo_unlink: /],
  [
    'with a call that writes in a string',
    body("language plpgsql stable as 'begin perform set_config(''a.b'', ''c'', false); return a; end'"),
    /^set_config: /,
  ],
  [
    'with a quoted call in a string',
    body('language plpgsql stable as $x$ begin perform "nextval"(\'s\'); return a; end $x$'),
    /^"nextval": /,
  ],
  ['with a volatile call', body('language sql stable return a + random()::int'), /^random: .*different value/],
  [
    'with a writing statement in a string',
    body("language sql stable as 'delete from x; select a'"),
    /only select statements/,
  ],
])('a function %s', (_, text, message) => {
  const found = effects('functions/f.sql', text);
  if (message) expect(found).toEqual([expect.stringMatching(message)]);
  else expect(found).toEqual([]);
});

test('a procedure is refused', () =>
  expect(effects('functions/p.sql', 'create procedure functions.p() language sql begin atomic select 1; end')).toEqual([
    expect.stringMatching(/procedure/),
  ]));
