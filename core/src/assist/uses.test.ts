import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { problems, projectOf } from '../testing.js';
import { find } from './find.js';
import { rename } from './rename.js';
import type { Renaming } from './rename-edits.js';
import { usesOf, type Named } from './uses.js';

beforeAll(loadParser);

const FILES: Readonly<Record<string, string>> = {
  'functions/half.sql':
    'create function functions.half(n numeric) returns numeric language sql immutable return n / 2;',
  'core/dim_berth.sql': `create table core.dim_berth (
  berth_code text primary key,
  length_m numeric(6,1)
) with (load = rebuild, owner = 'harbour office');
comment on table core.dim_berth is 'One row for each berth, as the harbour master counts them.';
comment on column core.dim_berth.length_m is 'Usable length in metres.';
select b.berth_code, functions.half(b.length_m) as length_m from staging.berth b;`,
  'mart/long.sql': `select d.berth_code, d.length_m
from core.dim_berth d
where d.length_m > current_setting('param.region')::numeric`,
  'docs/berths.md': `# Berths
How long they are says [core.dim_berth.length_m] of [core.dim_berth].`,
};

const uses = (what: Named) => {
  const { places, unsure } = usesOf(projectOf(FILES), what);
  expect(unsure).toEqual([]);
  return places.map(
    (p) => `${p.path}:${p.line}:${p.column} ${p.around.slice(p.column - 1, p.column - 1 + p.end - p.start)}`,
  );
};

describe('all uses', () => {
  test('of a column: where it is declared, made, read and written about', () =>
    expect(uses({ kind: 'column', table: 'core.dim_berth', column: 'length_m' })).toMatchInlineSnapshot(`
     [
       "core/dim_berth.sql:3:3 length_m",
       "core/dim_berth.sql:6:34 length_m",
       "core/dim_berth.sql:7:52 length_m",
       "docs/berths.md:2:40 length_m",
       "mart/long.sql:1:24 length_m",
       "mart/long.sql:3:9 length_m",
     ]
    `));
  test('of a table', () =>
    expect(uses({ kind: 'table', table: 'core.dim_berth' })).toMatchInlineSnapshot(`
     [
       "core/dim_berth.sql:1:14 core.dim_berth",
       "core/dim_berth.sql:5:18 core.dim_berth",
       "core/dim_berth.sql:6:19 core.dim_berth",
       "docs/berths.md:2:25 core.dim_berth",
       "docs/berths.md:2:54 core.dim_berth",
       "mart/long.sql:2:6 core.dim_berth",
     ]
    `));
  test('of a function', () =>
    expect(uses({ kind: 'function', name: 'half' })).toMatchInlineSnapshot(`
     [
       "core/dim_berth.sql:7:32 half",
       "functions/half.sql:1:27 half",
     ]
    `));
  test('of a parameter', () =>
    expect(uses({ kind: 'parameter', name: 'region' })).toMatchInlineSnapshot(`
     [
       "mart/long.sql:3:43 region",
       "parameters.sql:1:11 region",
     ]
    `));
  test('of what there is not', () =>
    expect(usesOf(projectOf(FILES), { kind: 'table', table: 'core.nothing' })).toEqual({
      places: [],
      unsure: [{ path: '', message: 'there is no table core.nothing' }],
    }));
  test('are those that a rename changes', () => {
    const project = projectOf(FILES);
    const renaming: Renaming = { kind: 'column', table: 'core.dim_berth', column: 'length_m', to: 'metres' };
    const renamed = rename(project, renaming);
    const changed = 'files' in renamed ? renamed.files.map((f) => f.path).sort() : [];
    const listed = new Set(usesOf(project, renaming).places.map((p) => p.path));
    expect([...listed].sort()).toEqual(changed);
  });
});

describe('the finder', () => {
  const found = (search: string) =>
    find(projectOf(FILES), search).map((f) => `${f.kind} ${f.of} ${f.line}:${f.column} ${f.around}`);
  test.each<[string, string]>([
    ['descriptions of tables', 'harbour master'],
    ['descriptions of columns, owners, notes and texts', 'metres'],
    ['owners', 'HARBOUR office'],
    ['the text of queries', 'functions.half(b.'],
    ['words that stand apart', 'long they'],
    ['links of notes', '[core.dim_berth]'],
  ])('%s', (_, search) => expect(found(search)).toMatchSnapshot());
  test('nothing for a letter', () => expect(found('a')).toEqual([]));
  test('nothing where a word is missing', () => expect(found('harbour nothing')).toEqual([]));
});

test('links of notes that lead nowhere are told with the nearest name', () => {
  const note =
    'See [core.dim_bert], [core.dim_berth.lenght_m], [core.dim_berth.length_m], [checks.none], [x.y], `[core.none]`, [core.none](https://x) and\n```\n[core.none]\n```';
  expect(problems(projectOf({ ...FILES, 'docs/berths.md': note }))).toMatchInlineSnapshot(`
   [
     "docs/berths.md [core.dim_bert] core.dim_bert is linked here, and there is none (did you mean core.dim_berth?)",
     "docs/berths.md [core.dim_berth.lenght_m] core.dim_berth.lenght_m is linked here, and there is none (did you mean core.dim_berth.length_m?)",
     "docs/berths.md [checks.none] checks.none is linked here, and there is none (write it as \`code\` if it is not meant as a link)",
   ]
  `);
});
