import { beforeAll, describe, expect, test } from '@jest/globals';
import { typeOfText } from '../catalog/type-names.js';
import { postgresql } from '../catalog/catalog.js';
import type { Column } from '../model/project.js';
import { loadParser, parseSql } from '../sql/parser.js';
import { resolveColumns } from './columns.js';
import type { ColumnProblem } from './problem.js';
import type { Field } from './value.js';

beforeAll(loadParser);

const column = (table: string, name: string, type: string): Field => ({
  name,
  type: typeOfText(type),
  value: [`${table}.${name}`],
  influence: [],
  kind: 'copied',
});
const TABLES: Readonly<Record<string, readonly Field[]>> = {
  's.berth': [
    column('berth', 'code', 'text'),
    column('berth', 'length_m', 'numeric(6,1)'),
    column('berth', 'terminal', 'text'),
  ],
  's.call': [
    column('call', 'no', 'text'),
    column('call', 'code', 'text'),
    column('call', 'tonnage', 'numeric'),
    column('call', 'at', 'timestamptz'),
  ],
};

function resolve(sql: string) {
  const { node } = parseSql(sql).statements[0]!;
  if (!('SelectStmt' in node)) throw new Error(`no query: ${sql}`);
  return resolveColumns(node.SelectStmt, {
    catalog: postgresql(),
    relation: (layer, name) => {
      const fields = TABLES[`${layer}.${name}`];
      return fields && { fields, rows: [`${name}.*`], rowType: `${layer}.${name}` };
    },
    declaredFunction: (name) =>
      name === 'lower' ? { result: typeOfText('integer'), returnsSet: false, columns: [] } : undefined,
  });
}

/** `name:type<origin,origin~influence`, as short as a table of cases wants it. */
const shown = (columns: readonly Column[] | undefined) =>
  columns
    ?.map(
      (c) =>
        c.name +
        (c.type ? `:${c.type}` : '') +
        (c.origins.length ? `<${[...c.origins].sort().join(',')}` : '') +
        (c.influence.length ? `~${[...c.influence].sort().join(',')}` : ''),
    )
    .join(' ') ?? 'unknown';

function told(p: ColumnProblem): string {
  switch (p.kind) {
    case 'arms':
      return `arms ${p.left}/${p.right}`;
    case 'alias':
      return `alias ${p.name}`;
    case 'names':
      return `names of ${p.table} ${p.given}/${p.columns}`;
    case 'using':
      return `using ${p.name} of ${p.tables.join(', ')}`;
    case 'misplaced':
      return `${p.what} ${p.name} in ${p.clause}`;
    case 'mark':
      return `mark ${p.name}`;
    case 'recursion':
      return `recursion ${p.name} ${p.fault}`;
    default:
      return `${p.kind} ${p.parts.join('.')}${p.kind === 'ambiguous' ? ` in ${p.tables.join(',')}` : ''}`;
  }
}

describe('what a query returns', () => {
  test.each([
    [
      'columns pass through with type and origin',
      'select code, length_m from s.berth',
      'code:text<berth.code length_m:numeric(6,1)<berth.length_m',
    ],
    ['a cast gives the type', 'select length_m::integer as m from s.berth', 'm:integer<berth.length_m'],
    [
      'an expression is made from all its columns',
      "select code || '-' || terminal as k from s.berth",
      'k:text<berth.code,berth.terminal',
    ],
    [
      'a condition of a case decides the value too',
      'select case when tonnage > 1 then no else code end as c from s.call',
      'c:text<call.code,call.no,call.tonnage',
    ],
    [
      'a function of the project has the type that it declares',
      'select functions.lower(code) as l, functions.constructor(code) as c from s.berth',
      'l:integer<berth.code c<berth.code',
    ],
    [
      'text of text',
      "select lower(trim(code)) as l, upper('x') as u, lower(length_m) as r from s.berth",
      'l:text<berth.code u:text r<berth.length_m',
    ],
    [
      'names that PostgreSQL gives',
      "select max(tonnage) over (), coalesce(code, ''), code::text, 1, exists (select 1) from s.call",
      'max:numeric<call.tonnage coalesce:text<call.code code:text<call.code ?column?:integer exists:boolean',
    ],
    [
      'a row within a row, its columns numbered',
      'select (q.r).f2 as x, (q.r).f4 as y from (select row(b.*, 1) as r from s.berth b) q',
      'x:numeric(6,1)<berth.length_m y:integer<berth.code,berth.length_m,berth.terminal',
    ],
    [
      'a row by its table and schema',
      'select (s.berth.*).code as c, s.berth.*::text as t from s.berth',
      'c:text<berth.code t:text<berth.code,berth.length_m,berth.terminal',
    ],
    [
      'moments in a zone and out of it',
      "select at at time zone 'UTC' as l, (at at time zone 'UTC') at time zone 'CET' as z from s.call",
      'l:timestamp<call.at z:timestamptz<call.at',
    ],
    [
      'a column written as a function of its row, and what only looks like one',
      'select code(b) as c, code(b, 1) as d from s.berth b',
      'c:text<berth.code,berth.length_m,berth.terminal d<berth.code,berth.length_m,berth.terminal',
    ],
    [
      'star',
      'select * from s.berth',
      'code:text<berth.code length_m:numeric(6,1)<berth.length_m terminal:text<berth.terminal',
    ],
    [
      'star of one table',
      'select b.*, c.no from s.berth b, s.call c',
      'code:text<berth.code length_m:numeric(6,1)<berth.length_m terminal:text<berth.terminal no:text<call.no',
    ],
    [
      'star after using has the merged column first and once',
      'select * from s.call join s.berth using (code)',
      'code:text<call.code no:text<call.no tonnage:numeric<call.tonnage at:timestamptz<call.at length_m:numeric(6,1)<berth.length_m terminal:text<berth.terminal',
    ],
    [
      'natural join merges what both have',
      'select * from s.berth natural join s.call',
      'code:text<berth.code length_m:numeric(6,1)<berth.length_m terminal:text<berth.terminal no:text<call.no tonnage:numeric<call.tonnage at:timestamptz<call.at',
    ],
    ['aliases of columns', 'select x, y from s.berth as b (x, y)', 'x:text<berth.code y:numeric(6,1)<berth.length_m'],
    ['a subquery', 'select q.k from (select code as k from s.berth) as q', 'k:text<berth.code'],
    [
      'a scalar subquery',
      'select (select max(tonnage) from s.call c where c.code = b.code) as most from s.berth b',
      'most:numeric<call.tonnage~berth.code,call.*,call.code',
    ],
    ['a common table expression', 'with c as (select code as k from s.berth) select k from c', 'k:text<berth.code'],
    [
      'its columns renamed',
      'with c (a, b) as (select code, terminal from s.berth) select b from c',
      'b:text<berth.terminal',
    ],
    ['a table hidden by it', 'with berth as (select no from s.call) select * from berth', 'no:text<call.no'],
    [
      'recursion',
      'with recursive r as (select code, 1 as n from s.berth union all select code, n + 1 from r where n < 3) select * from r',
      'code:text<berth.code n:integer',
    ],
    [
      'a union of which the first part is not known',
      'select * from s.nowhere union select code from s.berth',
      'unknown',
    ],
    [
      'a union of which the second part is not known has the names of the first',
      'select code from s.berth union select * from s.nowhere',
      'code<berth.code',
    ],
    [
      'a part that writes is not known, and hides a name from outside',
      'with w as (delete from s.berth returning code) select * from w',
      'unknown',
    ],
    [
      'a whole row is not one column',
      'select b from s.berth as b',
      'b:s.berth<berth.code,berth.length_m,berth.terminal',
    ],
    ['a column of a query outside', 'select (select b.code) as c from s.berth as b', 'c:text<berth.code'],
    [
      'union has the names of the first and the origins of both',
      'select code from s.berth union all select no from s.call',
      'code:text<berth.code,call.no',
    ],
    [
      'types that differ become one',
      'select length_m from s.berth union select tonnage from s.call',
      'length_m:numeric<berth.length_m,call.tonnage',
    ],
    ['except', 'select code from s.berth except select code from s.call', 'code:text<berth.code'],
    ['values', "select a, b from (values (1, 'x'), (2, 'y')) as v (a, b)", 'a:integer b:text'],
    ['bare values', 'values (1, 2)', 'column1:integer column2:integer'],
    [
      'a lateral subquery sees what stands before it',
      'select b.code, n.no from s.berth b cross join lateral (select no from s.call c where c.code = b.code limit 1) as n',
      'code:text<berth.code no:text<call.no',
    ],
    ['a function with named columns', 'select d from generate_series(1, 3) as g (d)', 'd:integer'],
    ['a function with declared columns', "select a from json_to_record('{}') as r (a integer, b text)", 'a:integer'],
    ['with ordinality', 'select v, n from unnest(array[1]) with ordinality as u (v, n)', 'v:integer n:bigint'],
    ['a function under its own name', 'select * from generate_series(1, 3)', 'generate_series:integer'],
    ['a table that is not there is not known', 'select * from s.nowhere', 'unknown'],
    ['a whole row', 'select b from s.berth b', 'b:s.berth<berth.code,berth.length_m,berth.terminal'],
    [
      'a window',
      'select row_number() over (partition by code order by at) as n from s.call',
      'n:bigint~call.at,call.code',
    ],
    [
      'a filter',
      'select sum(tonnage) filter (where code is not null) as t from s.call',
      't:numeric<call.tonnage~call.code',
    ],
    ['count is a bigint', 'select count(*) as n from s.call', 'n:bigint'],
    ['a sample', 'select code from s.berth tablesample system (10)', 'code:text<berth.code'],
    [
      'joined tables under one alias',
      'select j.no from (s.call c join s.berth b on b.code = c.code) as j',
      'no:text<call.no',
    ],
  ])('%s', (_, sql, expected) => {
    const { columns, problems } = resolve(sql);
    expect([shown(columns), problems.map(told)]).toEqual([expected, []]);
  });
});

describe('names that are not there', () => {
  test.each([
    ['a column', 'select cod from s.berth', ['unknown cod']],
    ['of a table', 'select b.cod from s.berth b', ['unknown b.cod']],
    ['an alias', 'select x.code from s.berth b', ['unknown-range x.code']],
    ['its star', 'select x.* from s.berth b', ['unknown-range x']],
    ['of two tables', 'select code from s.berth, s.call', ['ambiguous code in berth,call']],
    [
      'in where, group, having, order and join',
      'select count(*) from s.berth b join s.call c on c.cod = b.code where w = 1 group by g having h > 1 order by o',
      ['unknown c.cod', 'unknown w', 'unknown g', 'unknown o', 'unknown h'],
    ],
    [
      'inside a subquery',
      'select 1 as a from s.berth where exists (select 1 from s.call where cal.no = 1)',
      ['unknown-range cal.no'],
    ],
    ['using', 'select no from s.call join s.berth using (no)', ['using no of berth, call']],
    ['lateral only', 'select 1 as a from s.berth b, (select b.code) as q', ['unknown-range b.code']],
    ['the arms of a union', 'select code from s.berth union select code, no from s.call', ['arms 1/2']],
    ['a field of what has none', 'select code.field from s.berth', ['unknown-range code.field']],
    ['an output column is not for where', 'select code as k from s.berth where k is null', ['unknown k']],
  ])('%s', (_, sql, expected) => expect(resolve(sql).problems.map(told)).toEqual(expected));

  test.each([
    [
      'group and order may name output columns',
      'select trim(code) as k, count(*) as n from s.berth group by k order by n',
    ],
    ['order of a union', 'select code as k from s.berth union select no from s.call order by k'],
    ['system columns', 'select xmin, b.ctid from s.berth b'],
    ['what a table that is not there might have', 'select zzz from s.nowhere, s.berth'],
    [
      'a field of a column whose type is not known',
      'select q.f.field from (select functions.f(code) as f from s.berth) q',
    ],
    [
      'a correlated subquery',
      'select 1 as a from s.berth b where exists (select 1 from s.call where call.code = b.code and terminal = code)',
    ],
    ['a merged column needs no table', 'select code from s.call join s.berth using (code) where code is not null'],
    ['a schema before the table', 'select berth.code from s.berth'],
  ])('nothing is reported: %s', (_, sql) => expect(resolve(sql).problems.map(told)).toEqual([]));
});

describe('where it is told', () => {
  test.each([
    ['the second of two with one name', 'select 1 as a from s.berth x, s.call x', 30, 'alias'],
    ['a subquery with a name that is taken', 'select 1 as a from s.berth x, (select 1) as x', 38, 'alias'],
    ['the second part of a union', 'select code from s.berth union select code, no from s.call', 38, 'arms'],
    ['too many names of a subquery', 'select 1 as a from (select code from s.berth) as q (a, b)', 27, 'names'],
    ['too many names of a common table expression', 'with q (a, b) as (select 1) select a from q', 5, 'names'],
    ['what is locked and not there', 'select code from s.berth for update of call', 39, 'unknown-range'],
    ['a column of a function whose own are named', 'select y from nowhere(1) as f (x)', 7, 'unknown'],
  ])('%s', (_, sql, location, kind) =>
    expect(resolve(sql).problems.map((p) => [p.kind, p.location])).toEqual([[kind, location]]),
  );
});
