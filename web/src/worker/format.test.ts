import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';
import { formatted } from './format';

beforeAll(loadParser);

const format = (text: string, path = 'staging/x.sql') => {
  const project = readProject(
    new Map([
      ['layers.sql', 'create schema staging;'],
      [path, text],
    ]),
  );
  return formatted(project, { path, text });
};

describe('formatting', () => {
  test('lays out the query and keeps contract, comments and words', () =>
    expect(
      format(`-- What it is
create table staging.x (a   integer, b text) with (load = rebuild);
select 1 as a, -- the first
/* and
   the second */ Case when true then 'x' end as b from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.relname like 'a%';

grant select on staging.x to public;
`),
    ).toMatchInlineSnapshot(`
     {
       "text": "-- What it is
     create table staging.x (a   integer, b text) with (load = rebuild);
     select
       1 as a, -- the first
       /* and
       the second */
       Case
         when true then 'x'
       end as b
     from
       pg_catalog.pg_class c
       join pg_catalog.pg_namespace n on n.oid = c.relnamespace
     where
       c.relname like 'a%';

     grant select on staging.x to public;
     ",
     }
    `));
  test('once more changes nothing', () => {
    const once = format('select a.oid, count(*) as n from pg_catalog.pg_class a group by 1') as { text: string };
    expect(format(once.text)).toEqual(once);
  });
  test.each<[string, string, string]>([
    ['a syntax error', 'select frm where', 'Fix the syntax error first'],
    ['no query', 'create table staging.x (a integer);', 'There is no query in it.'],
  ])('leaves a text with %s as it is', (_, text, problem) =>
    expect(format(text)).toEqual({ problem: expect.stringContaining(problem) }),
  );
  test('leaves what would be changed alone', () => {
    const odd = "select $a$ x $a$ as a, 'b'\n'c' as d, 1 as \"E\", e'\\'' as f";
    const answer = format(odd);
    expect('text' in answer ? answer.text.replace(/\s+/g, ' ') : odd.replace(/\s+/g, ' ')).toBe(
      odd.replace(/\s+/g, ' '),
    );
  });
});
