import { beforeAll, expect, test } from '@jest/globals';
import type { Definition } from '../model/project.js';
import { parseSql, loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { queryParts, type QueryPart } from './query-parts.js';

beforeAll(loadParser);

const PLACES = {
  placeOf: (t: string) => ({ schema: t.split('.')[0]!, name: t.split('.')[1]! }),
  functionsSchema: 'functions',
};

type Tree = string | [string, ...Tree[]];

test.each<[string, string, Tree[]]>([
  [
    'what a select returns',
    'select a, f(b, c) as d from landing.berth',
    [['select a, f(b, c) as d from landing.berth', 'from landing.berth', 'a', 'f(b, c) as d']],
  ],
  [
    'conditions and groups',
    'select distinct on (x, y) all_of, sum(n / 2) from landing.call where n > 0 group by all_of having count(*) > 1 order by 1 limit 3',
    [
      [
        'select distinct on (x, y) all_of, sum(n / 2) from landing.call where n > 0 group by all_of having count(*) > 1 order by 1 limit 3',
        'from landing.call',
        'where n > 0',
        'group by all_of having count(*) > 1',
        'all_of',
        'sum(n / 2)',
      ],
    ],
  ],
  ['no FROM', 'select 1 as n, 2 as m', [['select 1 as n, 2 as m', '1 as n', '2 as m']]],
  [
    'words that are no clauses here',
    `select a is distinct from b as other, extract(year from t) as y, percentile_cont(0.5) within group (order by a) as "from" from landing.call -- where
     cross join lateral (select 1 where true) x`,
    [
      [
        expect.stringContaining('select a is') as never,
        expect.stringMatching(/^from landing.call[^]*x$/) as never,
        'a is distinct from b as other',
        'extract(year from t) as y',
        'percentile_cont(0.5) within group (order by a) as "from"',
      ],
    ],
  ],
  [
    'selects that are put together',
    'select a from landing.call union all (select b from landing.berth where c) except select d',
    [
      [
        'select a from landing.call union all (select b from landing.berth where c) except select d',
        ['select a from landing.call', 'from landing.call', 'a'],
        ['(select b from landing.berth where c)', 'from landing.berth', 'where c', 'b'],
        ['select d', 'd'],
      ],
    ],
  ],
  [
    'common table expressions',
    'with one as (select a from landing.call), two (b) as materialized (table one union values (1)) select b from two',
    [
      ['select a from landing.call', 'from landing.call', 'a'],
      ['table one union values (1)', 'table one', 'values (1)'],
      ['select b from two', 'from two', 'b'],
    ],
  ],
])('%s', (_, query, expected) => {
  const project = projectOf({ 'core/x.sql': query });
  const table = project.tables.get('core.x') as Definition;
  const text = project.files.get('core/x.sql')!.text;
  const tree = ({ start, end, parts }: QueryPart): Tree =>
    parts.length ? [text.slice(start, end), ...parts.map(tree)] : text.slice(start, end);
  const parts = queryParts(project, table, PLACES);
  expect(parts.map(tree)).toEqual(expected);
  const grammatical = (part: QueryPart): void => {
    expect(parseSql(part.sql()).error).toBeUndefined();
    part.parts.forEach(grammatical);
  };
  parts.forEach(grammatical);
});

test('a part is on its own: with what it reads before it, views put in, and rows that stand for a table’s', () => {
  const project = projectOf({
    'core/x.sql':
      'with b as (select length_m from staging.berth), c as (select 1 / length_m as share from b) select share from c where share > 0',
  });
  const names = { ...PLACES, placeOf: (t: string) => (t.startsWith('staging.') ? undefined : PLACES.placeOf(t)) };
  const [, , main] = queryParts(project, project.tables.get('core.x') as Definition, names);
  const item = main!.parts.at(-1)!.sql(new Map([['landing.berth', 'select * from landing.berth limit 1']]));
  expect(item.replace(/\s+/g, ' ')).toBe(
    'with "staging.berth" as not materialized ( select berth_code, length_m::numeric(6,1) as length_m from (select * from landing.berth limit 1) as "berth" ) ' +
      'select * from ( with b as (select length_m from "staging.berth" as "berth"), c as (select 1 / length_m as share from b) ' +
      'select count(q) from ( select share from c where share > 0 ) as q ) as preview',
  );
});
