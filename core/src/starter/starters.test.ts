import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { cleanTable, proposeClean } from './clean.js';
import { dateDimension } from './date-dimension.js';
import { dimensionTable, keyNameOf, type DimensionChoices } from './dimension.js';
import { factTable, proposeLookUps, shareFoundQuery } from './fact.js';
import { hasPeriods, keyName, PERIODS } from './periods.js';
import { pivot, pivotNames, pivotValuesQuery, unpivot } from './pivot.js';
import { fromRelated, multiplies, roleOf, type JoinedTable } from './related.js';
import { relationsOf, stepsFrom } from './relations.js';
import { splitCounts, splitTable } from './split.js';
import { matchColumns, stackTables } from './stack.js';
import { MEASURES, measureSql, summarise } from './summarise.js';
import { againstTargets } from './target.js';
import {
  loneColumns,
  matchByValues,
  matchUnique,
  readSharedValues,
  relationPairs,
  relationsFromValues,
  sharedValuesQuery,
  stackPairs,
  uniqueValuesQuery,
} from './values.js';
import { vaultTables } from './vault.js';

beforeAll(loadParser);

/** What each starter writes. That it computes what it says is tested in the warehouse. */
describe('clean', () => {
  test('texts trimmed, decoded and cast; a column derived; some rows only', () =>
    expect(
      cleanTable({
        source: { fullName: 'landing.call', columns: [{ name: 'Call No', type: 'text' }] },
        columns: [
          { from: 'Call No', name: 'call_no', trim: true, nullTexts: ['', 'n/a'] },
          {
            from: 'way',
            name: 'way',
            decode: [
              ['I', 'in'],
              ['O', "o'ut"],
            ],

            fallback: 'unknown',
          },
          { from: 'tonnage', name: 'tonnage', cast: 'numeric(12,2)' },
          { from: 'plain', name: 'plain' },
        ],

        derived: [{ name: 'is_large', expression: 'tonnage > 1000' }],
        only: 'tonnage is not null -- real ones',
      }),
    ).toMatchInlineSnapshot(`
     "-- landing.call, cleaned
     select
       nullif(nullif(trim("Call No"), ''), 'n/a') as call_no,
       coalesce(case way when 'I' then 'in' when 'O' then 'o''ut' else way end, 'unknown') as way,
       tonnage::numeric(12,2) as tonnage,
       plain,
       tonnage > 1000 as is_large
     from landing.call
     where (tonnage is not null -- real ones
     )
     "
    `));
  test.each<[string, string, object]>([
    ['BerthID', 'integer', { from: 'BerthID', name: 'berth_id' }],
    ['Amount', 'money', { from: 'Amount', name: 'amount', cast: 'numeric(14,2)' }],
    ['note', 'text', { from: 'note', name: 'note', trim: true, nullTexts: [''] }],
  ])('%s of type %s', (name, type, expected) =>
    expect(proposeClean({ fullName: 'l.t', columns: [{ name, type }] })).toEqual([expected]),
  );
});

describe('a dimension', () => {
  const choices: DimensionChoices = {
    fullName: 'core.dim_ship',
    source: 'staging.ship',
    key: ['hull'],
    keyTypes: ['text'],
    attributes: [
      { column: { name: 'name', type: 'text' }, onChange: 'overwrite', previous: false },
      { column: { name: 'flag', type: 'text' }, onChange: 'version', previous: true },
      { column: { name: 'tons' }, onChange: 'keep', previous: false },
    ],
    history: true,
    missing: 'close',
    method: 'sequence',
  };
  test('with a history', () =>
    expect(dimensionTable(choices)).toMatchInlineSnapshot(`
     "-- Versions of each hull, from staging.ship
     create table core.dim_ship (
       ship_key     bigint      options (role 'surrogate key') primary key,
       hull         text        not null,
       name         text        options (on_change 'overwrite'),
       flag         text        options (on_change 'version'),
       earlier_flag text        options (on_change 'previous', previous_of 'flag'),
       tons         text        options (on_change 'keep'),
       valid_from   timestamptz options (role 'valid from') not null,
       valid_to     timestamptz options (role 'valid to'),
       is_current   boolean     options (role 'current flag') not null
     ) with (load = history, business_key = 'hull', missing_rows = close);

     select
       hull,
       name,
       flag,
       tons
     from staging.ship;
     "
    `));
  test('without one, numbered by hashes, vanished members marked', () =>
    expect(dimensionTable({ ...choices, history: false, missing: 'flag', method: 'hash' })).toMatchInlineSnapshot(`
     "-- One row a hull, from staging.ship
     create table core.dim_ship (
       ship_key bigint  options (role 'surrogate key') primary key,
       hull     text    not null unique,
       name     text,
       flag     text,
       tons     text,
       is_gone  boolean options (role 'deleted flag') not null
     ) with (load = merge, business_key = 'hull', missing_rows = flag, key_method = hash);

     select
       hull,
       name,
       flag,
       tons
     from staging.ship;
     "
    `));
  test.each([
    ['core.dim_ship', 'ship_key'],
    ['core.fact_call', 'call_key'],
    ['core.ship', 'ship_key'],
  ])('the key of %s is %s', (name, key) => expect(keyNameOf(name)).toBe(key));
});

describe('a fact', () => {
  const columns = [
    { name: 'stay_no', type: 'integer' },
    { name: 'hull', type: 'text' },
    { name: 'pilot_hull', type: 'text' },
    { name: 'came', type: 'date' },
    { name: 'tonnes', type: 'numeric(10,2)' },
  ];
  const lookUps = proposeLookUps(columns, [
    { fullName: 'core.dim_ship', surrogate: 'ship_key', key: ['hull'], history: false },
    { fullName: 'core.dim_berth', surrogate: 'berth_key', key: ['berth_code'], history: true },
  ]);
  test('look-ups are proposed by the names of keys', () =>
    expect(lookUps.map((l) => [l.name, l.by])).toEqual([
      ['ship_key', ['hull']],
      ['pilot_ship_key', ['pilot_hull']],
    ]));
  test.each([['merge'], ['rebuild']] as const)('loaded by %s', (policy) =>
    expect(
      factTable({
        fullName: 'core.fact_stay',
        source: 'staging.stay',
        key: ['stay_no'],
        columns: columns.map((c) => ({ ...c, measure: c.name === 'tonnes' })),
        lookUps: lookUps.map((l, i) => (i === 1 ? { ...l, at: 'came' } : l)),
        policy,
      }),
    ).toMatchSnapshot(),
  );
  test('the share of rows that find their member', () =>
    expect(shareFoundQuery('staging.stay', lookUps)).toMatchInlineSnapshot(`
     "select 0 as look_up, count(*) as rows, count(*) filter (where exists (select from core.dim_ship as d where d.hull = q.hull)) as found
     from staging.stay as q
     union all
     select 1 as look_up, count(*) as rows, count(*) filter (where exists (select from core.dim_ship as d where d.hull = q.pilot_hull)) as found
     from staging.stay as q"
    `));
});

describe('a date dimension', () => {
  const choices = { fullName: 'core.dim_date', from: '2020-01-01', to: '2030-12-31' };
  test('of ISO weeks', () =>
    expect(dateDimension({ ...choices, fiscalStart: 1, fiscalNamedBy: 'start', weeks: 'iso' })).toMatchInlineSnapshot(`
     "-- The calendar from 2020-01-01 to 2030-12-31; ISO weeks, the fiscal year begins in month 1
     create table core.dim_date (
       date_key       integer primary key,
       day            date    not null unique,
       year           integer not null,
       quarter        integer not null,
       month          integer not null check (month between 1 and 12),
       month_name     text    not null,
       week_year      integer not null,
       week           integer not null check (week between 1 and 54),
       day_of_week    integer not null check (day_of_week between 1 and 7),
       day_name       text    not null,
       is_weekend     boolean not null,
       fiscal_year    integer not null,
       fiscal_quarter integer not null,
       fiscal_month   integer not null check (fiscal_month between 1 and 12)
     );

     select
       to_char(d, 'YYYYMMDD')::integer as date_key,
       d::date as day,
       extract(year from d)::integer as year,
       extract(quarter from d)::integer as quarter,
       extract(month from d)::integer as month,
       to_char(d, 'FMMonth') as month_name,
       extract(isoyear from d)::integer as week_year,
       extract(week from d)::integer as week,
       extract(isodow from d)::integer as day_of_week,
       to_char(d, 'FMDay') as day_name,
       extract(isodow from d) in (6, 7) as is_weekend,
       extract(year from d)::integer as fiscal_year,
       extract(quarter from d)::integer as fiscal_quarter,
       extract(month from d)::integer as fiscal_month
     from generate_series('2020-01-01'::timestamp, '2030-12-31'::timestamp, interval '1 day') as g (d);
     "
    `));
  test('of weeks from Sunday and a year that begins in July', () =>
    expect(dateDimension({ ...choices, fiscalStart: 7, fiscalNamedBy: 'end', weeks: 'sunday' })).toMatchInlineSnapshot(`
     "-- The calendar from 2020-01-01 to 2030-12-31; weeks from Sunday, the fiscal year begins in month 7
     create table core.dim_date (
       date_key       integer primary key,
       day            date    not null unique,
       year           integer not null,
       quarter        integer not null,
       month          integer not null check (month between 1 and 12),
       month_name     text    not null,
       week_year      integer not null,
       week           integer not null check (week between 1 and 54),
       day_of_week    integer not null check (day_of_week between 1 and 7),
       day_name       text    not null,
       is_weekend     boolean not null,
       fiscal_year    integer not null,
       fiscal_quarter integer not null,
       fiscal_month   integer not null check (fiscal_month between 1 and 12)
     );

     select
       to_char(d, 'YYYYMMDD')::integer as date_key,
       d::date as day,
       extract(year from d)::integer as year,
       extract(quarter from d)::integer as quarter,
       extract(month from d)::integer as month,
       to_char(d, 'FMMonth') as month_name,
       extract(year from d)::integer as week_year,
       ((extract(doy from d)::integer - 1 + extract(dow from date_trunc('year', d))::integer) / 7 + 1)::integer as week,
       extract(dow from d)::integer + 1 as day_of_week,
       to_char(d, 'FMDay') as day_name,
       extract(isodow from d) in (6, 7) as is_weekend,
       extract(year from d - interval '6 months')::integer + 1 as fiscal_year,
       extract(quarter from d - interval '6 months')::integer as fiscal_quarter,
       extract(month from d - interval '6 months')::integer as fiscal_month
     from generate_series('2020-01-01'::timestamp, '2030-12-31'::timestamp, interval '1 day') as g (d);
     "
    `));
});

describe('a stack', () => {
  const tables = [
    {
      fullName: 'staging.north',
      columns: [
        { name: 'no', type: 'integer' },
        { name: 'berth_code', type: 'text' },
      ],
    },
    {
      fullName: 'staging.south',
      columns: [
        { name: 'berth_cod', type: 'varchar(5)' },
        { name: 'no', type: 'bigint' },
        { name: 'open', type: 'boolean' },
      ],
    },
  ];
  test.each([
    [
      'all rows, with where they come from',
      { distinct: false, origin: { name: 'quay', values: ['N', "S'"] }, order: ['no'] },
    ],
    ['different rows only', { distinct: true }],
  ])('%s', (_, rest) => expect(stackTables({ tables, columns: matchColumns(tables), ...rest })).toMatchSnapshot());
  test('columns that stand alone are matched by what they hold', () => {
    const columns = [
      { name: 'a', type: 'text', from: ['a', null] },
      { name: 'b', type: 'text', from: [null, 'b'] },
    ];
    const both = [
      { fullName: 's.n', columns: [{ name: 'a', type: 'text' }] },
      { fullName: 's.s', columns: [{ name: 'b', type: 'text' }] },
    ];
    const pairs = stackPairs(both, columns);
    expect(sharedValuesQuery(pairs)).toMatchInlineSnapshot(`
     "select 0 as pair, count(*) as values, count(*) filter (where taken.value in (select "b"::text from s.s where "b" is not null limit 100000)) as found
     from (select distinct value from (select "a"::text as value from s.n where "a" is not null limit 5000) as looked_at limit 500) as taken"
    `);
    const answers = readSharedValues(pairs, [['0', '4', '3']]);
    expect(matchByValues(both, columns, answers)).toEqual([{ name: 'a', type: 'text', from: ['a', 'b'] }]);
    expect(matchByValues(both, columns, readSharedValues(pairs, [['0', '4', '1']]))).toEqual(columns);
  });
});

describe('tables around one', () => {
  const project = () =>
    projectOf({
      'sources/more.sql': `create server more foreign data wrapper postgres_fdw;
create foreign table landing.ship (hull_no text primary key, name text) server more;
create foreign table landing.stay (stay_no integer primary key, hull_no text, pilot_hull_no text, call_no text references landing.visit (visit_no)) server more;
create foreign table landing.visit (visit_no text primary key) server more;`,
    });
  const relations = () => relationsOf(project()).filter((r) => r.from === 'landing.stay');
  test('are declared, or guessed from names and types', () =>
    expect(
      relations().map(
        (r) =>
          `${r.fromColumns.join()} → ${r.to}.${r.toColumns.join()}${r.declared ? ', declared' : ''}${r.toOne ? ', one' : ''}`,
      ),
    ).toEqual([
      'call_no → landing.visit.visit_no, declared, one',
      'hull_no → landing.ship.hull_no, one',
      'pilot_hull_no → landing.ship.hull_no, one',
    ]));
  test('a step has a role, and leads both ways', () => {
    expect(relations().map(roleOf)).toEqual(['call', 'ship', 'pilot']);
    expect(stepsFrom(relations(), 'landing.ship').map((s) => [s.to, s.toOne, roleOf(s)])).toEqual([
      ['landing.stay', false, 'stay'],
      ['landing.stay', false, 'stay'],
    ]);
  });
  test('are joined so that every row stays', () => {
    const [, ship, pilot] = relations();
    const back = stepsFrom(relations(), 'landing.ship')[0]!;
    const joins: JoinedTable[] = [
      { parent: -1, step: ship!, columns: [{ column: 'name', name: 'ship_name' }] },
      { parent: -1, step: pilot!, columns: [{ column: 'name', name: 'pilot_name' }] },
      { parent: 0, step: back, columns: [], aggregate: [{ kind: 'count', name: 'stays' }] },
      { parent: 0, step: back, columns: [{ column: 'stay_no', name: 'other_stay' }] },
    ];
    const choices = { base: 'landing.stay', columns: [{ column: 'stay_no', name: 'stay_no' }], joins };
    expect([multiplies(choices), multiplies({ ...choices, joins: joins.slice(0, 3) })]).toEqual([true, false]);
    expect(fromRelated(choices)).toMatchInlineSnapshot(`
     "-- landing.stay with landing.ship, landing.ship, landing.stay, landing.stay
     select
       s.stay_no,
       s2.name as ship_name,
       s3.name as pilot_name,
       s4.stays,
       s5.stay_no as other_stay
     from landing.stay s
     left join landing.ship s2 on s2.hull_no = s.hull_no
     left join landing.ship s3 on s3.hull_no = s.pilot_hull_no
     left join (
       select
         hull_no,
         count(*) as stays
       from landing.stay
       group by hull_no
     ) s4 on s4.hull_no = s2.hull_no
     left join landing.stay s5 on s5.hull_no = s2.hull_no  -- several rows: multiplies
     "
    `);
  });
  test('are found by values, where names do not say it', () => {
    const tables = [
      {
        fullName: 's.stay',
        layer: 's',
        key: ['stay_no'],
        columns: [
          { name: 'stay_no', type: 'integer' },
          { name: 'vessel', type: 'text' },
          { name: 'n', type: 'integer' },
        ],
      },
      { fullName: 's.ship', layer: 's', key: ['hull'], columns: [{ name: 'hull', type: 'text' }] },
    ];
    const pairs = relationPairs(tables, 's.stay', []);
    expect(pairs).toEqual([
      { from: { table: 's.stay', column: 'vessel' }, to: { table: 's.ship', column: 'hull' }, type: 'text' },
    ]);
    const of = (values: string, found: string) =>
      relationsFromValues(readSharedValues(pairs, [['0', values, found]])).map((r) => [
        r.fromColumns[0],
        r.to,
        r.share,
      ]);
    expect([of('10', '9'), of('10', '8'), of('2', '2')]).toEqual([[['vessel', 's.ship', 0.9]], [], []]);
  });
});

test('a table split by conditions, with a remainder, and how many rows each part has', () => {
  const parts = [
    { name: 'large', condition: 'tonnage > 1000 -- t' },
    { name: 'small', condition: 'tonnage <= 1000' },
  ];
  expect([...splitTable({ source: 'staging.call', parts, remainder: 'other' })]).toMatchSnapshot();
  expect(splitCounts({ source: 'staging.call', parts })).toMatchInlineSnapshot(`
   "select count(*) as total,
     count(*) filter (where (tonnage > 1000 -- t
   )) as part1,
     count(*) filter (where (tonnage <= 1000)) as part2,
     count(*) filter (where ((tonnage > 1000 -- t
   ) is true)::int + ((tonnage <= 1000) is true)::int > 1) as overlap,
     count(*) filter (where (tonnage > 1000 -- t
   ) is not true
     and (tonnage <= 1000) is not true) as rest
   from staging.call"
  `);
});

describe('a summary', () => {
  test.each(MEASURES.map((kind) => [kind]))('%s', (kind) =>
    expect([
      measureSql({ kind, column: 'tonnage', name: 'x' }),
      measureSql({ kind, column: 'tonnage', name: 'x', nullIsZero: true }),
    ]).toMatchSnapshot(),
  );
  test('by columns, of some rows', () =>
    expect(
      summarise({
        source: 'staging.call',
        by: ['berth_code'],
        measures: [
          { kind: 'count', name: 'calls' },
          { kind: 'sum', column: 'tonnage', name: 'tonnage', nullIsZero: true },
          { kind: 'share', column: 'tonnage', name: 'share' },
        ],

        only: 'tonnage > 0',
      }),
    ).toMatchInlineSnapshot(`
     "-- staging.call, one row per berth_code; a null counts as 0 in tonnage, elsewhere nulls are ignored
     select
       berth_code,
       count(*) as calls,
       sum(coalesce(tonnage, 0)) as tonnage,
       sum(tonnage) / nullif(sum(sum(tonnage)) over (), 0) as share
     from staging.call
     where (tonnage > 0)
     group by berth_code
     "
    `));
});

describe('a summary of periods, its groups chosen and sorted', () => {
  const of = { source: 'staging.call', measures: [{ kind: 'count', name: 'calls' }] as const };
  const month = { column: 'called_at', period: 'month' } as const;
  const lines = (choices: Partial<Parameters<typeof summarise>[0]>) =>
    summarise({ ...of, by: [], ...choices })
      .split('\n')
      .filter((l) => /date_trunc|having|order|limit|^--/.test(l))
      .map((l) => l.trim());
  test.each<[string, Partial<Parameters<typeof summarise>[0]>, string[]]>([
    [
      'months',
      { by: ['berth_code', month] },
      [
        '-- staging.call, one row per berth_code, called_month; nulls are ignored',
        "date_trunc('month', called_at)::date as called_month,",
        "group by berth_code, date_trunc('month', called_at)::date",
      ].filter((l) => /date_trunc|^--/.test(l)),
    ],
    [
      'groups',
      { by: ['b'], having: 'count(*) > 3' },
      ['-- staging.call, one row per b; nulls are ignored', 'having (count(*) > 3)'],
    ],
    [
      'the first ten',
      { by: ['b'], order: { column: 'calls', descending: true }, most: 10 },
      ['-- staging.call, one row per b, the first 10; nulls are ignored', 'order by calls desc nulls last', 'limit 10'],
    ],
    [
      'sorted upwards',
      { by: ['b'], order: { column: 'b', descending: false } },
      ['-- staging.call, one row per b; nulls are ignored', 'order by b'],
    ],
  ])('%s', (_, choices, expected) => expect(lines(choices)).toEqual(expected));
  test.each([
    ['called_at', 'called_year'],
    ['day', 'day_year'],
    ['built_on', 'built_year'],
  ])('%s by year is %s', (column, name) => expect(keyName({ column, period: 'year' })).toBe(name));
  test.each([
    ['date', true],
    ['timestamptz', true],
    ['timestamp(3)', true],
    ['time', false],
    ['text', false],
    [undefined, false],
  ])('%s has periods: %s', (type, has) => expect(hasPeriods(type)).toBe(has));
});

describe('turned columns and rows', () => {
  test('periods become columns, and are named by what they are', () => {
    const period = 'quarter';
    const days = ['2026-01-01', '2026-10-01', null];
    expect(pivotNames(days, [], period)).toEqual(['quarter_2026_1', 'quarter_2026_4', 'no_value']);
    expect(PERIODS.map((p) => pivotNames(['2026-03-02'], [], p)[0])).toEqual([
      'day_2026_03_02',
      'week_2026_03_02',
      'month_2026_03',
      'quarter_2026_1',
      'year_2026',
    ]);
    expect(pivotValuesQuery({ source: 'staging.call', across: 'called_at', period })).toBe(
      "select (date_trunc('quarter', called_at)::date)::text as value\nfrom staging.call\ngroup by 1\norder by 1",
    );
    expect(
      pivot({
        source: 'staging.call',
        by: [],
        across: 'called_at',
        period,
        values: [{ value: '2026-01-01', name: 'quarter_2026_1' }],
        measure: { kind: 'count' },
      }),
    ).toContain("count(*) filter (where date_trunc('quarter', called_at)::date = '2026-01-01') as quarter_2026_1");
  });
  test('names of values are names of columns, each once', () =>
    expect(pivotNames(['A b', 'a B', null, '', '1st'], ['berth'])).toMatchInlineSnapshot(`
     [
       "a_b",
       "a_b_2",
       "no_value",
       "empty",
       "c_1st",
     ]
    `));
  test('rows become columns', () =>
    expect(
      pivot({
        source: 'staging.call',
        by: ['berth_code'],
        across: 'cargo',
        values: [
          { value: 'grain', name: 'grain' },
          { value: null, name: 'none' },
        ],

        measure: { kind: 'sum', column: 'tonnage', nullIsZero: true },
      }),
    ).toMatchInlineSnapshot(`
     "-- staging.call: values of cargo as columns
     select
       berth_code,
       sum(coalesce(tonnage, 0)) filter (where cargo = 'grain') as grain,
       sum(coalesce(tonnage, 0)) filter (where cargo is null) as "none"
     from staging.call
     group by berth_code
     "
    `));
  test.each([[true], [false]])('columns become rows, without nulls: %s', (withoutNulls) =>
    expect(
      unpivot({
        source: 'staging.month',
        keep: ['berth_code'],
        columns: ['jan', 'feb'],
        nameColumn: 'month',
        valueColumn: 'tonnage',
        withoutNulls,
      }),
    ).toMatchSnapshot(),
  );
});

test('targets against what was achieved', () =>
  expect(
    againstTargets({
      targets: 'reference.target',
      actuals: 'core.fact_call',
      grain: [{ column: 'month', expression: "date_trunc('month', came)::date" }],
      measures: [{ target: 'tonnes', actual: { kind: 'sum', column: 'tonnage' }, name: 'tonnes' }],
      only: 'is_done',
    }),
  ).toMatchInlineSnapshot(`
   "-- reference.target against core.fact_call
   with achieved as (
     select
       (date_trunc('month', came)::date) as month,
       sum(tonnage) as tonnes
     from core.fact_call
     where (is_done)
     group by 1
   )
   select
     coalesce(t.month, a.month) as month,
     t.tonnes as tonnes_target,
     a.tonnes as tonnes_actual,
     coalesce(a.tonnes, 0) - coalesce(t.tonnes, 0) as tonnes_difference,
     coalesce(a.tonnes, 0)::numeric / nullif(t.tonnes, 0) as tonnes_reached
   from reference.target t
   full join achieved a on t.month = a.month
   "
  `));

test('a raw vault', () => {
  const tables = vaultTables({
    source: 'landing.stay',
    entity: { name: 'stay', key: [{ name: 'stay_no', type: 'integer' }] },
    attributes: [{ name: 'came', type: 'date' }],
    related: [
      { name: 'ship', key: [{ name: 'hull', type: 'text' }], also: { table: 'landing.ship', columns: ['hull'] } },
      { name: 'pilot', key: [{ name: 'pilot_hull', type: 'text' }] },
    ],
    pointInTime: { from: '2026-01-01', to: '2026-12-31' },
    bridge: true,
  });
  expect(tables.map((t) => t.sql((name) => `vault.${name}`)).join('\n')).toMatchInlineSnapshot(`
   "-- Every stay that was ever seen, by its key
   create table vault.hub_stay (
     stay_hub   bigint      options (role 'surrogate key') primary key,
     stay_no    integer     not null unique,
     first_seen timestamptz options (role 'loaded at') not null
   ) with (load = merge, business_key = 'stay_no', key_method = hash);

   select distinct
     stay_no
   from landing.stay
   where stay_no is not null;

   -- Every ship that was ever seen, by its key
   create table vault.hub_ship (
     ship_hub   bigint      options (role 'surrogate key') primary key,
     hull       text        not null unique,
     first_seen timestamptz options (role 'loaded at') not null
   ) with (load = merge, business_key = 'hull', key_method = hash);

   select
     hull
   from landing.stay
   where hull is not null
   union
   select
     hull
   from landing.ship
   where hull is not null;

   -- Every pilot that was ever seen, by its key
   create table vault.hub_pilot (
     pilot_hub  bigint      options (role 'surrogate key') primary key,
     pilot_hull text        not null unique,
     first_seen timestamptz options (role 'loaded at') not null
   ) with (load = merge, business_key = 'pilot_hull', key_method = hash);

   select distinct
     pilot_hull
   from landing.stay
   where pilot_hull is not null;

   -- Which stay was ever seen with which ship
   create table vault.link_stay_ship (
     stay_ship_link bigint      options (role 'surrogate key') primary key,
     stay_hub       bigint      options (looked_up_by 'stay_no') not null references vault.hub_stay (stay_hub),
     ship_hub       bigint      options (looked_up_by 'hull') not null references vault.hub_ship (ship_hub),
     stay_no        integer     not null,
     hull           text        not null,
     first_seen     timestamptz options (role 'loaded at') not null
   ) with (load = merge, business_key = 'stay_no, hull', key_method = hash);

   select distinct
     stay_no,
     hull
   from landing.stay
   where stay_no is not null and hull is not null;

   -- Which stay was ever seen with which pilot
   create table vault.link_stay_pilot (
     stay_pilot_link bigint      options (role 'surrogate key') primary key,
     stay_hub        bigint      options (looked_up_by 'stay_no') not null references vault.hub_stay (stay_hub),
     pilot_hub       bigint      options (looked_up_by 'pilot_hull') not null references vault.hub_pilot (pilot_hub),
     stay_no         integer     not null,
     pilot_hull      text        not null,
     first_seen      timestamptz options (role 'loaded at') not null
   ) with (load = merge, business_key = 'stay_no, pilot_hull', key_method = hash);

   select distinct
     stay_no,
     pilot_hull
   from landing.stay
   where stay_no is not null and pilot_hull is not null;

   -- What was said of each stay, and when
   create table vault.sat_stay (
     stay_sat   bigint      options (role 'surrogate key') primary key,
     stay_hub   bigint      options (looked_up_by 'stay_no') not null references vault.hub_stay (stay_hub),
     stay_no    integer     not null,
     came       date,
     says       uuid        options (role 'row hash') not null,
     valid_from timestamptz options (role 'valid from') not null,
     valid_to   timestamptz options (role 'valid to'),
     is_current boolean     options (role 'current flag') not null
   ) with (load = history, business_key = 'stay_no');

   select
     stay_no,
     came
   from landing.stay
   where stay_no is not null;

   -- Which version of sat_stay held at the end of each day
   create table vault.pit_stay (
     stay_hub    bigint          not null references vault.hub_stay (stay_hub),
     day         date            not null,
     stay_sat    bigint,
     primary key (stay_hub, day)
   );

   select
     h.stay_hub,
     d.day::date as day,
     s.stay_sat
   from vault.hub_stay h
   cross join generate_series('2026-01-01'::date, '2026-12-31'::date, interval '1 day') as d (day)
   left join vault.sat_stay s
     on s.stay_hub = h.stay_hub
    and s.valid_from < d.day + interval '1 day'
    and (s.valid_to is null or s.valid_to >= d.day + interval '1 day')
   where h.stay_hub <> 0;

   -- From each stay over its links
   create table vault.bridge_stay (
     stay_hub   bigint  not null,
     stay_no    integer not null,
     ship_hub   bigint,
     pilot_hub  bigint,
     hull       text,
     pilot_hull text
   );

   select
     h.stay_hub,
     h.stay_no,
     l1.ship_hub,
     l2.pilot_hub,
     l1.hull,
     l2.pilot_hull
   from vault.hub_stay h
   left join vault.link_stay_ship l1 on l1.stay_hub = h.stay_hub
   left join vault.link_stay_pilot l2 on l2.stay_hub = h.stay_hub
   where h.stay_hub <> 0;
   "
  `);
});

describe('columns that tell rows apart', () => {
  const tables = [
    {
      fullName: 's.old',
      columns: [
        { name: 'no', type: 'text' },
        { name: 'kind', type: 'text' },
        { name: 'n', type: 'integer' },
      ],
    },
    {
      fullName: 's.new',
      columns: [
        { name: 'visit', type: 'text' },
        { name: 'sort', type: 'text' },
        { name: 'm', type: 'numeric(9,2)' },
      ],
    },
  ];
  const columns = matchColumns(tables).flatMap((c) =>
    c.from.filter((f) => f !== null).length === 2
      ? c.from.map((f, i) => ({ ...c, name: f!, from: c.from.map((g, j) => (i === j ? g : null)) }))
      : [c],
  );
  const unique = (...names: [string, string][]) => names.map(([table, column]) => ({ table, column }));
  const shown = (found: ReturnType<typeof matchUnique>) => found.map((c) => `${c.name} ${c.type}: ${c.from.join('/')}`);
  test('are asked of those that can be compared', () => {
    const lone = loneColumns(tables, columns);
    expect(lone.map((l) => l.column)).toEqual(expect.arrayContaining(['no', 'kind', 'visit', 'sort', 'n']));
    expect(lone.map((l) => l.column)).not.toContain('m');
    expect(uniqueValuesQuery(lone.slice(0, 1))).toMatch(/count\(\*\) = count\(distinct value\)/);
  });
  test.each<[string, [string, string][], string | undefined]>([
    [
      'one in each table',
      [
        ['s.old', 'no'],
        ['s.new', 'visit'],
      ],
      'no text: no/visit',
    ],
    [
      'two in one of them',
      [
        ['s.old', 'no'],
        ['s.old', 'kind'],
        ['s.new', 'visit'],
      ],
      undefined,
    ],
    [
      'types that do not fit',
      [
        ['s.old', 'n'],
        ['s.new', 'visit'],
      ],
      undefined,
    ],
    ['only in one table', [['s.old', 'no']], undefined],
  ])('%s', (_, names, expected) => {
    const found = shown(matchUnique(tables, columns, unique(...names)));
    if (expected === undefined) expect(found).toEqual(shown(columns));
    else expect(found.filter((l) => l.includes('/') && !l.endsWith('/') && !l.includes(': /'))).toEqual([expected]);
  });
});

test.each([
  ['left', /^left join /],
  ['inner', /^join /],
  ['full', /^full join /],
] as const)('a table is joined so that rows without a partner fare as a %s join has it', (kind, line) => {
  const step = { from: 's.a', to: 's.b', fromColumns: ['k'], toColumns: ['k'], toOne: true, declared: true };
  const sql = fromRelated({
    base: 's.a',
    columns: [{ column: 'k', name: 'k' }],
    joins: [{ parent: -1, step, columns: [{ column: 'x', name: 'x' }], kind }],
  });
  expect(sql.split('\n').filter((l) => line.test(l))).toHaveLength(1);
});
