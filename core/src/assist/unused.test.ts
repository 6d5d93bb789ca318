import { beforeAll, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { leftoversOf } from './unused.js';

beforeAll(loadParser);

/** What is told, as `word under it: message`. */
function told(query: string): string[] {
  const project = projectOf({ 'adhoc/x.sql': query });
  const file = project.files.get('adhoc/x.sql')!;
  return leftoversOf(file).map(
    ({ start, end, message }) => `${query.slice(start, end)}: ${message.replace('Nothing in this query ', '')}`,
  );
}

const A = 'with a as (select 1 as k, 2 as l, 3 as m)';
test.each<[string, string, string[]]>([
  ['a CTE that nothing reads', `${A} select 1 as n`, ['a: reads a']],
  ['a column that nothing takes', `${A} select k, a.l from a`, ['3: takes a.m']],
  ['all columns taken', `${A} select * from a`, []],
  ['all columns of one table', `${A} select x.* from a x`, []],
  ['a whole row', `${A} select a::text as t from a`, []],
  ['a whole row by another name', `${A} select count(x) as n from a x`, []],
  ['counted alone', `${A} select count(*) as n from a`, ['1: takes a.k', '2: takes a.l', '3: takes a.m']],
  ['joined by names', `${A} select b.k as n from a join (select 1 as k, 3 as m) b using (k, m)`, ['2: takes a.l']],
  ['joined by all names', `${A} select 1 as n from a natural join (select 1 as k) b`, []],
  ['columns with other names', `${A} select p from a as x (p, q, r)`, []],
  ['stacked', `${A} select k from a union select 1 as z`, []],
  ['read by another CTE', `${A}, b as (select k from a where l = m) select k from b`, []],
  ['of which only one is left over', `${A}, b as (select k from a where l > m) select k from a`, ['b: reads b']],
  [
    'read by itself alone',
    'with recursive r as (select 1 as k union all select k + 1 as k from r) select 1 as n',
    ['r: reads r'],
  ],
  [
    'recursive, whose columns it takes itself',
    `with recursive r as (select 1 as k, 2 as l union all select k + 1, l from r where k < 5) select k from r`,
    [],
  ],
  ['a table of a layer', 'with port as (select 1 as k) select 1 as n from landing.port', ['port: reads port']],
  ['inside of a subquery', `select n from (${A} select k as n from a where l < m) s`, []],
  ['left over inside of a subquery', `select n from (${A} select k as n from a where l < 3) s`, ['3: takes a.m']],
  ['a column by which it is sorted', 'with a as (select 1 as k, 2 as l order by l limit 1) select k from a', []],
  ['distinct rows', 'with a as (select distinct 1 as k, 2 as l) select k from a', []],
  ['rows of a function', 'with a as (select 1 as k, generate_series(1, 3) as l) select k from a', []],
  [
    'a column that bears its own name',
    'with a as (select s.n, s.m from (values (1, 2)) s (n, m)) select n from a',
    ['s: takes a.m'],
  ],
])('%s', (_, query, expected) => expect(told(query)).toEqual(expected));
