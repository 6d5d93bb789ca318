import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { changed, projectOf } from '../testing.js';
import { freedColumns, sensitiveColumns, visibleColumns } from './sensitive.js';

beforeAll(loadParser);

const SOURCE = `create server crm foreign data wrapper postgres_fdw;
create foreign table landing.person (
  person_id integer not null,
  name text options (sensitive 'personal'),
  born date options (sensitive 'personal'),
  city text
) server crm;`;
const FILES: Readonly<Record<string, string>> = {
  'sources/crm.sql': SOURCE,
  'staging/person.sql': 'select person_id, upper(name) as name, city, born from landing.person',
  'core/by_city.sql': 'select city, count(*) as people, min(born) as eldest from staging.person group by city',
  'core/age.sql': `create table core.age (person_id integer, years integer options (sensitive 'no')) with (load = rebuild);
select person_id, extract(year from age(born))::integer as years from staging.person;`,
  'mart/older.sql': 'select person_id from core.age a where years > 60',
  'mart/same.sql': 'select p.person_id, q.name as other from staging.person p join staging.person q on q.name = p.name',
};
const all = (project = projectOf(FILES), released = project) =>
  [...sensitiveColumns(project, released)].flatMap(([table, columns]) =>
    [...columns].map(([column, { kind, from }]) => `${table}.${column} ${kind} of ${from}`),
  );

describe('what is sensitive', () => {
  test('travels with values, not with influence, and ends where it is freed', () =>
    expect(all().sort()).toMatchInlineSnapshot(`
     [
       "core.by_city.eldest personal of landing.person.born",
       "landing.person.born personal of landing.person.born",
       "landing.person.name personal of landing.person.name",
       "mart.same.other personal of landing.person.name",
       "staging.person.born personal of landing.person.born",
       "staging.person.name personal of landing.person.name",
     ]
    `));
  test('is nothing where nothing is declared', () =>
    expect(
      all(projectOf({ ...FILES, 'sources/crm.sql': SOURCE.replaceAll("options (sensitive 'personal')", '') })),
    ).toEqual([]));
  test('leaves the other columns visible', () => {
    const project = projectOf(FILES);
    expect(['landing.person', 'core.by_city', 'core.age', 'mart.same'].map((t) => visibleColumns(project, t))).toEqual([
      ['person_id', 'city'],
      ['city', 'people'],
      'all',
      ['person_id'],
    ]);
  });
  test('is all that is made with a function that reads it, directly or through another', () => {
    const project = projectOf({
      ...FILES,
      'functions/names.sql':
        'create function functions.names() returns table (n text) language sql stable begin atomic select name from landing.person; end',
      'functions/first.sql':
        'create function functions.first() returns text language sql stable return (select min(n) from functions.names())',
      'functions/hidden.sql':
        'create function functions.hidden() returns text language sql stable as $$ select max(name) from landing /* x */ . "person" $$;',
      'mart/behind.sql': 'select functions.hidden() as f',
      'mart/listed.sql': 'select n from functions.names()',
      'mart/one.sql': 'select city, functions.first() as f from landing.person',
      'mart/free.sql':
        "create table mart.free (f text options (sensitive 'no')) with (load = rebuild);\nselect functions.first() as f;",
    });
    const seen = ['mart.listed', 'mart.one', 'mart.behind', 'mart.free'].map((t) => visibleColumns(project, t));
    expect(seen).toEqual([[], [], [], 'all']);
  });
  test('of columns that cannot be known, none is visible behind something sensitive', () => {
    const open = 'select * from staging.person, core.not_there';
    expect(visibleColumns(projectOf({ ...FILES, 'mart/open.sql': open }), 'mart.open')).toEqual([]);
    expect(visibleColumns(projectOf({ ...FILES, 'mart/open.sql': 'select * from core.not_there' }), 'mart.open')).toBe(
      'all',
    );
  });
});

describe('a workspace frees nothing before it is released', () => {
  let released: ReturnType<typeof projectOf>;
  beforeAll(() => {
    released = projectOf(FILES);
  });
  const free = (changes: Readonly<Record<string, string>>) => changed(released, changes);
  test.each<[string, Readonly<Record<string, string>>, string]>([
    [
      'by declaring no',
      {
        'sources/crm.sql': SOURCE.replace(
          "name text options (sensitive 'personal')",
          "name text options (sensitive 'no')",
        ),
      },
      'landing.person.name',
    ],
    [
      'by declaring nothing',
      { 'sources/crm.sql': SOURCE.replace("name text options (sensitive 'personal')", 'name text') },
      'landing.person.name',
    ],
    [
      'by a table of its own',
      {
        'mart/mine.sql':
          "create table mart.mine (n text options (sensitive 'no')) with (load = rebuild);\nselect name as n from staging.person;",
      },
      'mart.mine.n',
    ],
  ])('%s', (_, changes, column) =>
    expect(all(free(changes), released).some((line) => line.startsWith(`${column} personal`))).toBe(true),
  );
  test('and what is freed in production is free there, too', () =>
    expect(
      all(free({ 'mart/more.sql': 'select years from core.age' }), released).filter((l) => l.startsWith('mart.more')),
    ).toEqual([]));
  test('and what it declares newly counts at once', () =>
    expect(
      all(
        free({ 'sources/crm.sql': SOURCE.replace('city text', "city text options (sensitive 'personal')") }),
        released,
      ),
    ).toContain('core.by_city.city personal of landing.person.city'));
});

test('what a change frees is told, but not what goes', () => {
  const before = projectOf(FILES);
  const after = changed(before, {
    'sources/crm.sql': SOURCE.replace("name text options (sensitive 'personal')", 'name text'),
    'core/by_city.sql': 'select city, count(*) as people from staging.person group by city',
  });
  expect(freedColumns(before, after)).toEqual(['landing.person.name', 'staging.person.name', 'mart.same.other']);
});
