import { describe, expect, test } from '@jest/globals';
import { cutQuery, describing } from './cut.js';
import { asOfQuery, changedColumns, compareQuery, versionsQuery, type HistoryTable } from './history.js';
import { allRows, countRows, FILTER_OPS, pageStatement, type PageRequest } from './page.js';
import { profileStatement, shapeOf } from './profile.js';
import { sampleQuery } from './sample.js';

describe('a page of rows', () => {
  const request: PageRequest = {
    source: '"core"."call"',
    columns: [
      { name: 'no', type: 'integer' },
      { name: 'Berth', type: 'text' },
      { name: 'about', type: 'json' },
    ],
    show: [],
    filters: [],
    sort: [],
    key: ['no'],
    limit: 50,
  };
  test.each<[string, Partial<PageRequest>]>([
    ['by its key', {}],
    [
      'behind a row, sorted, some columns',
      { show: ['Berth'], sort: [{ column: 'Berth', descending: true }], after: ['B-7', '12'] },
    ],
    ['behind a null', { sort: [{ column: 'Berth', descending: false }], after: [null, '12'] }],
    ['behind a null, descending', { sort: [{ column: 'Berth', descending: true }], after: [null, '12'] }],
    ['of a table without a key', { key: ['ctid'] }],
    ['of rows that nothing tells apart', { key: [], sort: [{ column: 'about', descending: false }] }],
    ['filtered', { filters: FILTER_OPS.map((op) => ({ column: op === '<' ? 'about' : 'Berth', op, value: "x'" })) }],
  ])('%s', (_, more) => expect(pageStatement({ ...request, ...more })).toMatchSnapshot());
  test('a column that is not there is refused', () =>
    expect(() => pageStatement({ ...request, show: ['nothing'] })).toThrow('there is no column nothing'));
  test('how many rows there are, and all of them', () => {
    const filters = [{ column: 'no', op: '>=' as const, value: '7' }];
    expect(countRows({ ...request, filters })).toMatchInlineSnapshot(`
     {
       "sql": "select count(*) as n from "core"."call" as "rows"
     where ("no" >= cast($1::text as integer))",
       "values": [
         "7",
       ],
     }
    `);
    expect(allRows({ ...request, filters, sort: [{ column: 'about', descending: true }] })).toMatchInlineSnapshot(`
     {
       "sql": "select "no", "Berth", "about" from "core"."call" as "rows"
     where ("no" >= cast($1::text as integer)) order by cast("about" as text) desc",
       "values": [
         "7",
       ],
     }
    `);
  });
});

test('long values are cut where they are made', () => {
  const columns = [
    { type: 'text', length: -1 },
    { type: 'integer', length: 4 },
    { type: 'bytea', length: -1 },
    { type: 'json', length: -1 },
    { type: 'text', length: -1 },
  ];
  const { sql, head } = cutQuery('select 1', columns, 100, 1);
  expect(sql).toMatchInlineSnapshot(`
   "select v1.text as "c1", q."c2", v3.text as "c3", v4.text as "c4", q."c5"
   from (
   select 1
   ) as q("c1", "c2", "c3", "c4", "c5")
   cross join lateral (select case when length(q."c1") > 100 then left(text, 100) || '… (' || length(q."c1") || ' characters in all)' else text end as text from (select q."c1" as text offset 0) as w1) as v1
   cross join lateral (select case when 2 * octet_length(q."c3") + 2 > 100 then left(text, 100) || '… (' || 2 * octet_length(q."c3") + 2 || ' characters in all)' else text end as text from (select '\\x' || encode(substring(q."c3" from 1 for 51), 'hex') as text offset 0) as w3) as v3
   cross join lateral (select case when length(text) > 100 then left(text, 100) || '… (' || length(text) || ' characters in all)' else text end as text from (select case when q."c4" is not null then format('%s', q."c4") end as text offset 0) as w4) as v4"
  `);
  expect(sql.slice(head).startsWith('select 1')).toBe(true);
  const described = describing('select 2');
  expect(described.sql.slice(described.head)).toBe('select 2\n) as described limit 0');
  expect(cutQuery('select', [], 100).sql).toContain('select *');
});

describe('a history', () => {
  const table: HistoryTable = {
    fullName: 'core.dim_berth',
    key: ['code'],
    validFrom: 'valid_from',
    validTo: 'valid_to',
    columns: ['code', 'length_m', 'valid_from', 'valid_to'],
  };
  test('as of an instant', () =>
    expect(asOfQuery(table, '2026-01-01')).toMatchInlineSnapshot(`
     "select *
     from core.dim_berth
     where "valid_from" <= '2026-01-01'::timestamptz and ("valid_to" is null or "valid_to" > '2026-01-01'::timestamptz)
     order by "code""
    `));
  test('the versions of one key', () =>
    expect(versionsQuery(table, ["B'1"])).toMatchInlineSnapshot(`
     "select *
     from core.dim_berth
     where "code"::text = 'B''1'
     order by "valid_from""
    `));
  test('two instants compared', () =>
    expect(compareQuery(table, '2026-01-01', '2026-02-01')).toMatchInlineSnapshot(`
     "select case when a."code" is null then 'came' when b."code" is null then 'went' else 'changed' end as change,
            coalesce(b."code", a."code") as "code",
            case when a."length_m" is distinct from b."length_m" then coalesce(a."length_m"::text, 'null') || ' → ' || coalesce(b."length_m"::text, 'null') else '' end as "length_m"
     from (select *
     from core.dim_berth
     where "valid_from" <= '2026-01-01'::timestamptz and ("valid_to" is null or "valid_to" > '2026-01-01'::timestamptz)) as a
     full join (select *
     from core.dim_berth
     where "valid_from" <= '2026-02-01'::timestamptz and ("valid_to" is null or "valid_to" > '2026-02-01'::timestamptz)) as b on a."code" = b."code"
     where a."code" is null or b."code" is null or a."length_m" is distinct from b."length_m"
     order by 2"
    `));
  test('what changed from one version to the next', () =>
    expect(
      changedColumns(table, ['code', 'length_m', 'valid_from', 'other'], ['a', '1', 'x', '1'], ['b', '2', 'y', '2']),
    ).toEqual(['length_m']));
});

describe('a sample', () => {
  test.each([
    ['of a table', { kind: 'plain', share: 0.1 }, true],
    ['of a view', { kind: 'plain', share: 0.25 }, false],
    ['more than all', { kind: 'plain', share: 7 }, true],
    ['of each combination', { kind: 'stratified', by: ['a', 'B'], each: 3.7 }, false],
  ] as const)('%s', (_, sample, isTable) =>
    expect(sampleQuery('core.t', ['a', 'B'], sample, { isTable })).toMatchSnapshot(),
  );
});

describe('a profile', () => {
  test.each([
    ['integer', 'number'],
    ['numeric(12,2)', 'number'],
    ['money', 'number'],
    ['integer[]', 'other'],
    ['timestamptz', 'instant'],
    ['date', 'instant'],
    ['varchar(5)', 'text'],
    ['boolean', 'boolean'],
    ['json', 'other'],
  ])('%s is shaped as %s', (type, shape) => expect(shapeOf(type)).toBe(shape));
  test.each([
    ['a number', 'numeric'],
    ['an instant', 'timestamptz'],
    ['a text', 'text'],
    ['what has no equality', 'json'],
    ['a truth', 'boolean'],
  ])('of %s', (_, type) => expect(profileStatement('core.t', [{ name: "a'b", type }])).toMatchSnapshot());
});
