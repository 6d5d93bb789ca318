import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { readProject } from './read-project.js';

beforeAll(() => loadParser());

const BASE = {
  'layers.sql': 'create schema staging; create schema core;',
  'staging/a.sql': 'select 1 as n, 2 as m',
  'staging/b.sql': 'select 1 as n, 3 as k',
};

/** The diagnostics of one definition: the text at fault and what is wrong. */
function told(text: string): string[] {
  const { diagnostics, files } = readProject(new Map(Object.entries({ ...BASE, 'core/t.sql': text })));
  const read = files.get('core/t.sql')!.text;
  return diagnostics
    .filter((d) => d.path === 'core/t.sql')
    .map((d) => `[${read.slice(d.range.start, d.range.end)}] ${d.message}`);
}

describe('texts', () => {
  test.each<[string, string, string[]]>([
    [
      'a syntax error behind characters of two units',
      "select '𝒳𝒴🚢' as x, 1 frm\nstaging.a",
      ['[staging] syntax error at or near "staging"'],
    ],
    ['a mark of the byte order', '\ufeffselect n from staging.a', []],
    [
      'a no-break space',
      'select\u00a0n from staging.a',
      [
        '[\u00a0] there is a no-break or other special space here, which PostgreSQL reads as a letter: write a plain space',
      ],
    ],
    ['a no-break space in a text', "select 'a\u00a0b' as x", []],
    ['a no-break space in a comment', '-- a\u00a0b\nselect n from staging.a', []],
    [
      'a NUL',
      'select n\0 from staging.a',
      ['[\0] there is a NUL character here, which no text can contain: remove it'],
    ],
    ['an unclosed comment', 'select n -- x\n/* begun\nfrom staging.a', ['[/*] unterminated /* comment']],
    ['a long line in a comment', `-- ${'-'.repeat(200)}\nselect n from staging.a`, []],
    [
      'an endless operator',
      `select 1 ${'+'.repeat(100)} 1 as n`,
      [`[${'+'.repeat(100)}] an operator has 63 characters at most`],
    ],
  ])('%s', (_, text, expected) => expect(told(text)).toEqual(expected));
});

describe('names of a query', () => {
  test.each<[string, string, string[]]>([
    ['two columns of one name', 'select n, m as n from staging.a', ['[select] the query returns two columns named n']],
    [
      'columns without a name',
      'select n + 1, 2, m from staging.a',
      ['[n] a column of the query has no name', '[2] a column of the query has no name'],
    ],
    [
      'the same alias twice',
      'select x.n from staging.a x join staging.b x on true',
      ['[staging] two tables in this query are named x'],
    ],
    [
      'the same table twice',
      'select 1 as n from staging.a, staging.a',
      ['[staging] two tables in this query are named a'],
    ],
    [
      'an alias that is a table’s name',
      'select 1 as n from staging.a, staging.b a',
      ['[staging] two tables in this query are named a'],
    ],
    [
      'too many names of a CTE',
      'with c (x, y, z) as (select n, m from staging.a) select x from c',
      ['[c] c names 3 columns, and its query returns 2'],
    ],
    ['fewer names of a CTE', 'with c (x) as (select n, m from staging.a) select x, m from c', []],
    [
      'a column of USING that one side lacks',
      'select n from staging.a join staging.b using (n, m)',
      ['[m] b has no column m, on which it is joined with a'],
    ],
    ['a name of an inner query', 'select x.n from staging.a x where exists (select from staging.b x)', []],
  ])('%s', (_, text, expected) => expect(told(text)).toEqual(expected));
});

describe('depth', () => {
  const n = 450;
  test.each<[string, string]>([
    ['operators', `select ${Array(n).fill("'a'").join(' || ')} as x`],
    ['arms', Array(n).fill('select 1 as x').join(' union all ')],
    ['subqueries', `${'select * from ('.repeat(150)}select 1 as x${') as q'.repeat(150)}`],
    ['cases', `select ${'case when true then '.repeat(180)}1${' end'.repeat(180)} as x`],
    ['functions', `select ${'abs('.repeat(220)}1${')'.repeat(220)} as x`],
    [
      'joins',
      `select 1 as x from staging.a t0 ${Array.from({ length: 300 }, (_, i) => `join staging.a t${i + 1} on true`).join(' ')}`,
    ],
    ['common tables in each other', `${'with c as ('.repeat(120)}select 1 as x${') select * from c'.repeat(120)}`],
    ['conditions in brackets', `select 1 as x where ${'(true and ('.repeat(200)}true${'))'.repeat(200)}`],
    ['negations', `select ${'not '.repeat(300)}true as x`],
    ['scalar subqueries', `select ${'(select '.repeat(100)}1${')'.repeat(100)} as x`],
  ])('%s that are nested as deep as may be are read', (_, text) => expect(told(text)).toEqual([]));

  test.each<[string, string]>([
    ['operators', `select ${Array(5000).fill("'a'").join(' || ')} as x`],
    ['arms', Array(3000).fill('select 1 as x').join(' union all ')],
    ['subqueries', `${'select * from ('.repeat(600)}select 1 as x${') as q'.repeat(600)}`],
    ['cases', `select ${'case when true then '.repeat(800)}1${' end'.repeat(800)} as x`],
    ['negations', `select ${'not '.repeat(4000)}true as x`],
  ])('%s that are nested deeper are one error of the file', (_, text) =>
    expect(told(text)).toEqual([expect.stringMatching(/nested too deep/)]),
  );

  test.each<[number, unknown[]]>([
    [50_000, []],
    [200_000, [expect.stringMatching(/has too many parts: move lists of values to a reference table/)]],
  ])('a list of %p values', (n, problems) =>
    expect(told(`select 1 as x where 1 in (${Array(n).fill('1').join(',')})`)).toEqual(problems),
  );

  test('a bad file is an error of that file only', () => {
    const { diagnostics, columns } = readProject(
      new Map(
        Object.entries({
          ...BASE,
          'core/t.sql': `select ${'not '.repeat(4000)}true as x`,
          'core/u.sql': 'select n from staging.a',
        }),
      ),
    );
    expect(diagnostics.map((d) => d.path)).toEqual(['core/t.sql']);
    expect(columns.get('core.u')?.map((c) => c.name)).toEqual(['n']);
  });
});

describe('dates of a reference table', () => {
  const told = (csv: string, types = 'quarter date not null, at timestamptz') => {
    const project = readProject(
      new Map([
        ['layers.sql', 'create schema reference;'],
        ['reference/aim.csv', csv],
        ['reference/aim.sql', `create table reference.aim (name text primary key, ${types});`],
      ]),
    );
    return project.diagnostics.map((d) => `${d.path} ${d.range.start}-${d.range.end}: ${d.message}, ${d.hint}`);
  };
  test.each<[string, string, string[]]>([
    ['written as ISO 8601 has it', 'name,quarter,at\na,2026-03-01,2026-03-01 14:05:00+00\nb,2026-04-01,\n', []],
    [
      'written in another order',
      'name,quarter,at\na,03/04/2024,\n',
      ['reference/aim.csv 16-29: quarter: “03/04/2024” is not a date such as 2026-03-01, line 2 of reference/aim.csv'],
    ],
    [
      'below a field of several lines',
      'name,quarter,at\n"a\nb",2026-03-01,\nc,2026-02-30,4 March\n',
      [
        'reference/aim.csv 34-54: quarter: “2026-02-30” is not a calendar day, line 4 of reference/aim.csv',
        'reference/aim.csv 34-54: at: “4 March” is not a timestamp such as 2026-03-01 14:05:00+00, line 4 of reference/aim.csv',
      ],
    ],
  ])('%s', (_, csv, expected) => expect(told(csv)).toEqual(expected));
  test('a column of text may hold any', () =>
    expect(told('name,quarter,at\na,03/04/2024,\n', 'quarter text, at text')).toEqual([]));
});
