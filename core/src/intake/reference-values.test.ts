import { beforeAll, describe, expect, test } from '@jest/globals';
import { constraintChecks } from '../check/constraint-checks.js';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { conditionProbes } from '../check/condition-probes.js';
import { referenceCheckQuery, referenceProblems } from './reference-values.js';

beforeAll(loadParser);

const COLUMNS = [
  { name: 'code', type: 'text', notNull: true, isKey: true },
  { name: 'since', type: 'date', notNull: false, isKey: false },
  { name: 'gone', type: 'date', notNull: true, isKey: false },
];

test('rows of a reference table are held against types, nulls and the key', () =>
  expect(
    referenceProblems(
      COLUMNS,
      ['code', 'since'],
      [
        ['a', '2026-01-01'],
        ['a', '03/04/2024'],
        [null, null],
        ['b', ''],
      ],
    ).map((p) => `${p.row} ${p.column}: ${p.message}`),
  ).toMatchInlineSnapshot(`
   [
     "2 code: code is never null",
     "1 since: “03/04/2024” is not a date such as 2026-03-01",
     "3 since: “” is not a date such as 2026-03-01",
     "1 code: a is already in row 1",
   ]
  `));

describe('conditions', () => {
  const project = () =>
    projectOf({
      'reference/rate.csv': 'code,rate,flag\na,1,MR\n',
      'reference/rate.sql':
        'create table reference.rate (code text, rate numeric check (rate > 0), flag text references reference.flag (flag_code), unique (code));',
      'sources/more.sql': `create server more foreign data wrapper postgres_fdw;
create foreign table landing.stay (no integer, tonnes numeric, check (tonnes >= 0)) server more options (only 'tonnes > 1');`,
    });
  test('of a reference table are asked of rows that are typed', () => {
    const p = project();
    const table = p.tables.get('reference.rate')!;
    const columns = table.contract!.columns.map((c) => ({ name: c.name, type: c.type, notNull: false, isKey: false }));
    const rows = [
      ['a', '1', 'MR'],
      ['b', 'x', null],
      ['c', "0'", 'ZZ'],
    ];
    const query = (unsound: number[], header = ['code', 'rate', 'flag']) =>
      referenceCheckQuery({ name: 'rate', columns }, constraintChecks(p, table), { header, rows }, new Set(unsound));
    expect(query([1])).toMatchInlineSnapshot(`
     "select given_row.at as "row", asked.which as "check"
     from (values (0, 'a'::text, '1'::text, 'MR'::text),
     (2, 'c'::text, '0'''::text, 'ZZ'::text)) as given (at, v0, v1, v2)
     cross join lateral (select given.at) as given_row
     cross join lateral (select cast(given.v0 as text) as "code", cast(given.v1 as numeric) as "rate", cast(given.v2 as text) as "flag") as "rate"
     cross join lateral (values (0, (rate > 0
     )),
     (1, ("rate"."flag" is null or exists (select from reference.flag as known where known."flag_code" = "rate"."flag")
     ))) as asked (which, holds)
     where asked.holds is false
     order by 1, 2"
    `);
    expect(query([0, 1, 2])).toBeUndefined();
    expect(query([], ['code'])).toBeUndefined();
  });
  test('of sources are asked of the database as they are typed', () =>
    expect(conditionProbes(project(), 'sources/more.sql').map(({ what, sql }) => [what, sql])).toMatchInlineSnapshot(`
     [
       [
         "option only of landing.stay",
         "select from (select null::integer as "no", null::numeric as "tonnes") as "stay"
     where (tonnes > 1
     ) limit 0",
       ],
       [
         "constraint stay_tonnes_check",
         "select from (select null::integer as "no", null::numeric as "tonnes") as "stay"
     where (tonnes >= 0
     ) limit 0",
       ],
     ]
    `));
});
