import { beforeAll, describe, expect, test } from '@jest/globals';
import { changeFiles, readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import type { Project } from '../model/project.js';
import { changed, projectOf } from '../testing.js';
import { impactOf } from './impact.js';
import { lineageOf } from './graph.js';
import { coverage, descriptionOf } from './meaning.js';
import { untouchedWay, wayBack, wayForward } from './trace.js';
import { unread } from './unread.js';

beforeAll(loadParser);

const FILES = {
  'layers.sql':
    'create schema landing; create schema reference; create schema staging; create schema core; create schema mart;',
  'sources/ops.sql': `create server ops foreign data wrapper postgres_fdw;
create foreign table landing.vessel (hull_no text not null, gross_t numeric(10,1), flag text, note text, primary key (hull_no)) server ops;
create foreign table landing.invoice (invoice_no text not null, hull_no text, amount numeric(12,2), paid boolean, at timestamptz, primary key (invoice_no)) server ops;`,
  'reference/rate.csv': 'band,rate\n1,2.5\n',
  'staging/vessel.sql':
    'select hull_no, nullif(gross_t, 0)::numeric(10,1) as gross_tonnage, flag from landing.vessel where flag is not null;',
  'staging/invoice.sql': `with latest as (
  select hull_no, max(at) as last_at from landing.invoice group by hull_no
)
select i.invoice_no, i.hull_no, i.amount, i.paid, l.last_at, i.at
from landing.invoice i join latest l using (hull_no);`,
  'core/dim_vessel.sql': `create table core.dim_vessel (
  vessel_key bigint options (role 'surrogate key') primary key,
  hull_no text not null,
  gross_tonnage numeric(10,1),
  before_tonnage numeric(10,1) options (on_change 'previous', previous_of 'gross_tonnage'),
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to')
) with (load = history, business_key = 'hull_no');
select hull_no, gross_tonnage from staging.vessel;`,
  'core/fact_dues.sql': `create table core.fact_dues (
  invoice_no text not null,
  vessel_key bigint options (looked_up_by 'hull_no', at 'at') not null references core.dim_vessel (vessel_key),
  amount numeric(12,2),
  paid boolean
) with (load = merge, business_key = 'invoice_no');
select invoice_no, hull_no, at, amount * 1.00 as amount, paid from staging.invoice;`,
  'mart/dues.sql': `select v.hull_no,
  -- what was paid
  sum(d.amount) filter (where d.paid) total,
  count(*) as n
from core.fact_dues d join core.dim_vessel v using (vessel_key)
group by 1;`,
  'checks/none.sql': 'create view checks.none as select invoice_no from staging.invoice where last_at is null;',
};
const read = (changes: Readonly<Record<string, string>> = {}): Project => {
  const project = readProject(new Map(Object.entries({ ...FILES, ...changes })));
  expect(project.diagnostics.filter((d) => d.severity === 'error').map((d) => d.message)).toEqual([]);
  return project;
};

describe('the way back', () => {
  test('of a figure to its sources, with what the author wrote', () => {
    const stations = wayBack(read(), 'mart.dues.total');
    expect(
      stations.map((s) => [s.distance, s.id, s.kind, s.expressions.map((e) => `${e.text}:${e.line}`).join(' | ')]),
    ).toEqual([
      [0, 'mart.dues.total', 'aggregated', 'sum(d.amount) filter (where d.paid):3'],
      [1, 'core.fact_dues.amount', 'calculated', 'amount * 1.00:7'],
      [2, 'staging.invoice.amount', 'copied', 'i.amount:4'],
      [3, 'landing.invoice.amount', 'given', ''],
    ]);
    expect(stations[0]!.influence).toEqual(['core.fact_dues.paid']);
    expect(stations[0]!.rows).toEqual([
      'core.fact_dues.*',
      'core.dim_vessel.*',
      'core.fact_dues.vessel_key',
      'core.dim_vessel.vessel_key',
      'core.dim_vessel.hull_no',
    ]);
  });
  test('through a common table expression', () => {
    const [last] = wayBack(read(), 'staging.invoice.last_at');
    expect(last!.expressions.map((e) => e.text)).toEqual(['l.last_at', 'max(at)']);
    expect([last!.kind, last!.value, last!.influence]).toEqual(['aggregated', ['landing.invoice.at'], []]);
  });
  test('of a key that is looked up: business key, time and the dimension’s key', () => {
    const lineage = lineageOf(read());
    expect(lineage.edges('core.fact_dues.vessel_key')).toEqual({
      kind: 'looked up',
      value: ['staging.invoice.hull_no', 'staging.invoice.at', 'core.dim_vessel.vessel_key'],
      influence: ['core.dim_vessel.valid_from', 'core.dim_vessel.valid_to', 'core.dim_vessel.*'],
    });
  });
  test.each([
    ['a surrogate key', 'core.dim_vessel.vessel_key', 'filled', []],
    ['a value of before', 'core.dim_vessel.before_tonnage', 'filled', ['staging.vessel.gross_tonnage']],
    ['a cast and what is inside of it', 'staging.vessel.gross_tonnage', 'calculated', ['landing.vessel.gross_t']],
    ['a source', 'landing.vessel.flag', 'given', []],
    ['a reference table', 'reference.rate.rate', 'given', []],
  ])('%s', (_, id, kind, value) => {
    expect(lineageOf(read()).edges(id)).toMatchObject({ kind, value });
  });
  test('there is none of a name that is not there', () => {
    expect(wayBack(read(), 'mart.dues.nothing')).toEqual([]);
    expect(lineageOf(read()).edges('mart.nothing.total')).toBeUndefined();
    expect(lineageOf(read()).rows('mart.nothing')).toEqual([]);
  });
});

describe('the way forward', () => {
  test.each([
    [
      'a value',
      'landing.invoice.amount',
      { values: ['staging.invoice.amount', 'core.fact_dues.amount', 'mart.dues.total'], influenced: [], rows: [] },
    ],
    [
      'a condition decides rows, and of all that reads them',
      'landing.vessel.flag',
      {
        values: ['staging.vessel.flag'],
        influenced: ['core.fact_dues.vessel_key'],
        rows: ['staging.vessel', 'core.dim_vessel', 'mart.dues'],
      },
    ],
    [
      'the rows of a table',
      'landing.invoice.*',
      { values: [], influenced: [], rows: ['staging.invoice', 'core.fact_dues', 'mart.dues'] },
    ],
    ['a condition of one column', 'core.fact_dues.paid', { values: [], influenced: ['mart.dues.total'], rows: [] }],
    ['what nobody takes', 'landing.vessel.note', { values: [], influenced: [], rows: [] }],
  ])('%s', (_, id, expected) => {
    const { values, influenced, rows } = wayForward(read(), id);
    expect({ values: values.map((v) => v.id), influenced, rows }).toEqual(expected);
  });
});

test('an untouched way ends where something is done to the value, or two give it', () => {
  const project = read({
    'mart/both.sql': 'select hull_no from staging.vessel union select hull_no from core.dim_vessel;',
  });
  expect(untouchedWay(project, 'mart.dues.hull_no')).toEqual([
    'mart.dues.hull_no',
    'core.dim_vessel.hull_no',
    'staging.vessel.hull_no',
    'landing.vessel.hull_no',
  ]);
  expect(untouchedWay(project, 'core.dim_vessel.gross_tonnage')).toEqual([
    'core.dim_vessel.gross_tonnage',
    'staging.vessel.gross_tonnage',
  ]);
  expect(untouchedWay(project, 'mart.both.hull_no')).toEqual(['mart.both.hull_no']);
});

test('what nobody reads', () => {
  expect(unread(read())).toEqual({
    tables: ['reference.rate', 'mart.dues'],
    columns: [
      { table: 'landing.vessel', column: 'note' },
      { table: 'staging.vessel', column: 'flag' },
      { table: 'core.dim_vessel', column: 'gross_tonnage' },
      { table: 'core.dim_vessel', column: 'before_tonnage' },
    ],
  });
});

describe('placeholders', () => {
  test('the keys that facts look up decide the rows of the dimension', () => {
    const project = read({
      'core/fact_dues.sql': FILES['core/fact_dues.sql'].replace("at 'at')", "at 'at', missing 'infer')"),
    });
    expect(lineageOf(project).rows('core.dim_vessel')).toEqual([
      'staging.vessel.*',
      'staging.invoice.hull_no',
      'staging.invoice.at',
    ]);
  });
});

describe('what an edit does elsewhere', () => {
  const edited = (path: keyof typeof FILES, from: string, to: string) => {
    const before = read();
    expect(FILES[path]).toContain(from);
    const { breaks, values, rows } = impactOf(
      before,
      changeFiles(before, new Map([[path, FILES[path].replace(from, to)]])),
    );
    return { breaks: breaks.map((d) => `${d.path}: ${d.message}`), values, rows };
  };
  test.each<[string, keyof typeof FILES, string, string, object]>([
    ['layout and comments do nothing', 'mart/dues.sql', '-- what was paid', '\n\n  -- paid', {}],
    [
      'another value, in all that takes it',
      'core/fact_dues.sql',
      'amount * 1.00',
      'amount * 1.19',
      { values: ['core.fact_dues.amount', 'mart.dues.total'] },
    ],
    [
      'another value inside of a common table expression',
      'staging/invoice.sql',
      'max(at)',
      'min(at)',
      { values: ['staging.invoice.last_at'] },
    ],
    [
      'other rows, in all that reads them',
      'staging/invoice.sql',
      'using (hull_no)',
      'using (hull_no) where paid',
      { rows: ['staging.invoice', 'core.fact_dues', 'mart.dues'] },
    ],
    [
      'a column that is gone breaks its readers',
      'staging/invoice.sql',
      'i.amount, ',
      '',
      { breaks: ['core/fact_dues.sql: there is no column amount'] },
    ],
    [
      'a filter of an aggregate is its column’s',
      'mart/dues.sql',
      'where d.paid',
      'where not d.paid',
      { values: ['mart.dues.total'] },
    ],
  ])('%s', (_, path, from, to, expected) =>
    expect(edited(path, from, to)).toEqual({ breaks: [], values: [], rows: [], ...expected }),
  );
});

describe('meaning', () => {
  const described = () =>
    read({
      'sources/ops.sql': `${FILES['sources/ops.sql']}
comment on column landing.vessel.hull_no is 'The number welded to the hull.';
comment on column landing.invoice.amount is 'In crowns.';`,
      'core/dim_vessel.sql': FILES['core/dim_vessel.sql'].replace(
        'select hull_no',
        "comment on column core.dim_vessel.gross_tonnage is 'As measured.';\nselect hull_no",
      ),
    });
  test.each([
    [
      'is written at the column itself',
      'landing.vessel.hull_no',
      'The number welded to the hull.',
      'landing.vessel.hull_no',
    ],
    [
      'is carried along an untouched way',
      'mart.dues.hull_no',
      'The number welded to the hull.',
      'landing.vessel.hull_no',
    ],
    [
      'is overridden by what is written on the way',
      'core.dim_vessel.gross_tonnage',
      'As measured.',
      'core.dim_vessel.gross_tonnage',
    ],
    ['is not that of a value that was calculated', 'core.fact_dues.amount', undefined, undefined],
    ['is none of what nobody described', 'landing.vessel.note', undefined, undefined],
  ])('%s', (_, id, text, from) => {
    expect(descriptionOf(described(), id)).toEqual(text === undefined ? undefined : { text, from });
  });
  test('is counted by layer, with what is missing', () => {
    const [landing, reference] = coverage(described());
    expect(landing).toMatchObject({ layer: 'landing', described: 2, carried: 0 });
    expect(landing!.missing.length).toBe(7);
    expect(reference).toEqual({
      layer: 'reference',
      described: 0,
      carried: 0,
      missing: [
        { table: 'reference.rate', column: 'band' },
        { table: 'reference.rate', column: 'rate' },
      ],
    });
  });
});

test('what columns feed after edits is all that names them, looked for in each table', () => {
  const files: Readonly<Record<string, string>> = {
    'staging/a.sql': 'select berth_code, length_m from landing.berth',
    'staging/b.sql': 'select a.berth_code as code, c.call_no from staging.a a join landing.call c using (berth_code)',
    'core/c.sql': 'select code, count(*) as n from staging.b group by code',
    'core/d.sql': 'select c.code, a.length_m from core.c c left join staging.a a on a.berth_code = c.code',
  };
  const edits: readonly Readonly<Record<string, string | null>>[] = [
    {},
    { 'staging/a.sql': 'select upper(berth_code) as berth_code, length_m from landing.berth' },
    { 'core/c.sql': 'select call_no as code, 1 as n from staging.b' },
    { 'core/d.sql': null },
    { 'core/e.sql': 'select n from core.c', 'core/c.sql': files['core/c.sql']! },
    { 'staging/b.sql': 'select 1 as code' },
    { 'core/d.sql': files['core/d.sql']! },
  ];
  let project = projectOf(files);
  for (const edit of edits) {
    project = changed(project, edit);
    const lineage = lineageOf(project);
    const fed = new Map<string, { value: string[]; influence: string[]; rows: string[] }>();
    const at = (id: string) => fed.get(id) ?? fed.set(id, { value: [], influence: [], rows: [] }).get(id)!;
    for (const [table, columns] of project.columns) {
      for (const { name } of columns ?? []) {
        const { value, influence } = lineage.edges(`${table}.${name}`)!;
        for (const id of value) at(id).value.push(`${table}.${name}`);
        for (const id of influence) at(id).influence.push(`${table}.${name}`);
      }
      for (const id of lineage.rows(table)) at(id).rows.push(table);
    }
    const sorted = (of: { value: readonly string[]; influence: readonly string[]; rows: readonly string[] }) =>
      [of.value, of.influence, of.rows].map((list) => [...list].sort());
    expect(fed.size).toBeGreaterThan(3);
    for (const [id, expected] of fed) expect([id, ...sorted(lineage.fed(id))]).toEqual([id, ...sorted(expected)]);
    expect(lineage.fed('core.nothing.x')).toEqual({ value: [], influence: [], rows: [] });
  }
});
