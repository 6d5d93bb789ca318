import { beforeAll, describe, expect, test } from '@jest/globals';
import { postgresql } from '../catalog/catalog.js';
import { typeOfText } from '../catalog/type-names.js';
import { loadParser, parseSql } from '../sql/parser.js';
import { resolveColumns } from './columns.js';

beforeAll(loadParser);

/** Tables of the schema s, each with a column or two of each kind. */
const TABLES: Readonly<Record<string, string>> = {
  a: 'id integer, k integer, x integer, y text',
  b: 'id integer, k integer, u integer, v text',
  c: 'id integer, p integer, q integer[], j jsonb',
};
const relation = (layer: string | undefined, name: string) => {
  const columns = layer === 's' ? TABLES[name] : undefined;
  if (columns === undefined) return undefined;
  const fields = columns.split(', ').map((column) => {
    const [field, type] = column.split(' ');
    return {
      name: field!,
      type: typeOfText(type!),
      value: [`${name}.${field}`],
      influence: [],
      kind: 'copied' as const,
    };
  });
  return { fields, rows: [`${name}.*`], rowType: `s.${name}` };
};
const FUNCTIONS: Readonly<Record<string, string>> = { one: 'integer', words: 'setof text' };

/**
 * What a query's columns are made from, `column = value ~ influence`, columns apart by `;`, and behind `|` what decides
 * its rows. Of a table's own rows (`a.*`) only what is behind `|` is shown.
 */
function way(sql: string): string {
  const { node } = parseSql(sql).statements[0]!;
  if (!('SelectStmt' in node)) throw new Error(sql);
  const { columns, rows, problems } = resolveColumns(node.SelectStmt, {
    catalog: postgresql(),
    relation,
    declaredFunction: (name) => {
      const returns = FUNCTIONS[name];
      return returns === undefined
        ? undefined
        : { result: typeOfText(returns.replace('setof ', '')), returnsSet: returns.startsWith('setof'), columns: [] };
    },
  });
  expect(problems).toEqual([]);
  const list = (ids: readonly string[]) => [...ids].sort().join(' ');
  const shown = columns!.map(({ name, origins, influence }) =>
    [name, origins.length ? `= ${list(origins)}` : '', influence.length ? `~ ${list(influence)}` : '']
      .filter(Boolean)
      .join(' '),
  );
  return `${shown.join('; ')} | ${list(rows)}`.trim();
}

const RULES: Readonly<Record<string, readonly (readonly [sql: string, expected: string])[]>> = {
  'a column gives its value': [
    ['select t.x from s.a as t', 'x = a.x | a.*'],
    ['select (x) from s.a', 'x = a.x | a.*'],
    ['table s.c', 'id = c.id; p = c.p; q = c.q; j = c.j | c.*'],
    ['select a.*, 1 as n from s.a', 'id = a.id; k = a.k; x = a.x; y = a.y; n | a.*'],
    ['select x from only s.a', 'x = a.x | a.*'],
    ['select x from s.a', 'x = a.x | a.*'],
    ['select a.x from s.a', 'x = a.x | a.*'],
    ['select s.a.x from s.a', 'x = a.x | a.*'],
    ['select t.x as n from s.a t', 'n = a.x | a.*'],
    ['select n from s.a as t (m, n)', 'n = a.k | a.*'],
    ['select * from s.a', 'id = a.id; k = a.k; x = a.x; y = a.y | a.*'],
    ['select t.* from s.a t, s.b', 'id = a.id; k = a.k; x = a.x; y = a.y | a.* b.*'],
    ['select x, x as again from s.a', 'x = a.x; again = a.x | a.*'],
    ['select x::text from s.a', 'x = a.x | a.*'],
    ['select y collate "C" as y from s.a', 'y = a.y | a.*'],
  ],
  'all columns of an expression give its value': [
    ["select coalesce(nullif(y, ''), v) as n from s.a, s.b", 'n = a.y b.v | a.* b.*'],
    ['select extract(year from now()) + x as n from s.a', 'n = a.x | a.*'],
    ['select least(x, k, id) is null as n from s.a', 'n = a.id a.k a.x | a.*'],
    ['select (x, k) = (id, 1) as n from s.a', 'n = a.id a.k a.x | a.*'],
    ['select y ~ v as n from s.a, s.b', 'n = a.y b.v | a.* b.*'],
    ['select case when k = 1 then 1 else 0 end as n from s.a', 'n = a.k | a.*'],
    ["select jsonb_build_object('x', x, 'y', y) as n from s.a", 'n = a.x a.y | a.*'],
    ['select q[1:p] as n from s.c', 'n = c.p c.q | c.*'],
    ['select x + k as n from s.a', 'n = a.k a.x | a.*'],
    ['select -x as n from s.a', 'n = a.x | a.*'],
    ["select y || '-' || k as n from s.a", 'n = a.k a.y | a.*'],
    ['select coalesce(x, k, 0) as n from s.a', 'n = a.k a.x | a.*'],
    ['select greatest(x, k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select nullif(x, k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select case when x > 1 then y end as n from s.a', 'n = a.x a.y | a.*'],
    ["select case a.k when 1 then y when x then 'z' else v end as n from s.a, s.b", 'n = a.k a.x a.y b.v | a.* b.*'],
    ['select x in (1, k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select x between k and id as n from s.a', 'n = a.id a.k a.x | a.*'],
    ['select x is null as n from s.a', 'n = a.x | a.*'],
    ['select x is distinct from k as n from s.a', 'n = a.k a.x | a.*'],
    ['select not (x = 1 and k = 2) as n from s.a', 'n = a.k a.x | a.*'],
    ['select array[x, k] as n from s.a', 'n = a.k a.x | a.*'],
    ['select q[p] as n from s.c', 'n = c.p c.q | c.*'],
    ["select j -> 'a' ->> 'b' as n from s.c", 'n = c.j | c.*'],
    ['select row(x, y) as n from s.a', 'n = a.x a.y | a.*'],
    ['select functions.one(x) as n from s.a', 'n = a.x | a.*'],
    ["select y like '%x' as n from s.a", 'n = a.y | a.*'],
    ['select substring(y from x for k) as n from s.a', 'n = a.k a.x a.y | a.*'],
  ],
  'constants, counted rows and numbers of rows have none': [
    ['select dense_rank() over () as n, ntile(4) over () as m from s.a', 'n; m | a.*'],
    ['select count(*) + 1 as n from s.a', 'n | a.*'],
    ['select true as n, array[1, 2] as m from s.a', 'n; m | a.*'],
    ['select not exists (select from s.b where u = 1) as n from s.a', 'n ~ b.* b.u | a.*'],
    ['select 1 as n from s.a', 'n | a.*'],
    ["select 'x' as n, null as m from s.a", 'n; m | a.*'],
    ['select count(*) as n from s.a', 'n | a.*'],
    ['select row_number() over () as n from s.a', 'n | a.*'],
    ['select current_date as n from s.a', 'n | a.*'],
    ['select now() as n', 'n |'],
    ['select exists (select from s.b) as n from s.a', 'n ~ b.* | a.*'],
  ],
  'all arguments of aggregates give the value': [
    ['select avg(x * k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select bool_or(x > k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select max(coalesce(x, k)) - min(id) as n from s.a', 'n = a.id a.k a.x | a.*'],
    ['select array_agg(distinct y) as n from s.a', 'n = a.y | a.*'],
    ['select percentile_disc(array[0.1, 0.9]) within group (order by x + k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select sum(x) as n from s.a', 'n = a.x | a.*'],
    ['select count(y) as n from s.a', 'n = a.y | a.*'],
    ['select count(distinct y) as n from s.a', 'n = a.y | a.*'],
    ['select corr(x, k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select string_agg(y, k::text) as n from s.a', 'n = a.k a.y | a.*'],
    ['select sum(x) + max(k) as n from s.a', 'n = a.k a.x | a.*'],
    ['select percentile_cont(0.5) within group (order by x) as n from s.a', 'n = a.x | a.*'],
    ['select mode() within group (order by y) as n from s.a', 'n = a.y | a.*'],
    ['select rank(1) within group (order by k) as n from s.a', 'n = a.k | a.*'],
    ['select jsonb_object_agg(y, x) as n from s.a', 'n = a.x a.y | a.*'],
  ],
  'a filter and an order of an aggregate influence': [
    ['select count(x) filter (where x > k) as n from s.a', 'n = a.x ~ a.k a.x | a.*'],
    ['select sum(x) filter (where y in (select v from s.b)) as n from s.a', 'n = a.x ~ a.y b.* b.v | a.*'],
    ['select json_agg(x order by (select max(u) from s.b)) as n from s.a', 'n = a.x ~ b.* b.u | a.*'],
    ['select sum(x) filter (where k = 1) as n from s.a', 'n = a.x ~ a.k | a.*'],
    ['select count(*) filter (where y is null) as n from s.a', 'n ~ a.y | a.*'],
    ['select string_agg(y, x::text order by k) as n from s.a', 'n = a.x a.y ~ a.k | a.*'],
    ['select array_agg(y order by y, k desc) as n from s.a', 'n = a.y ~ a.k a.y | a.*'],
    ['select sum(x) filter (where k = 1) as n, sum(x) as m from s.a', 'n = a.x ~ a.k; m = a.x | a.*'],
    [
      'select sum(x) filter (where exists (select from s.b where u = k1.k)) as n from s.a k1',
      'n = a.x ~ a.k b.* b.u | a.*',
    ],
  ],
  'a window influences by its parts and its order': [
    ['select count(*) over (partition by k) as n from s.a', 'n ~ a.k | a.*'],
    ['select count(*) over (order by x) as n, k from s.a', 'n ~ a.x; k = a.k | a.*'],
    ['select max(x) filter (where y is null) over (partition by k) as n from s.a', 'n = a.x ~ a.k a.y | a.*'],
    ['select x - lag(x) over (partition by y order by id) as n from s.a', 'n = a.x ~ a.id a.y | a.*'],
    ['select row_number() over (partition by k order by x) as n from s.a', 'n ~ a.k a.x | a.*'],
    ['select sum(x) over (partition by k) as n from s.a', 'n = a.x ~ a.k | a.*'],
    ['select lag(x) over (order by k) as n from s.a', 'n = a.x ~ a.k | a.*'],
    ['select lag(x, 1, id) over (order by k) as n from s.a', 'n = a.id a.x ~ a.k | a.*'],
    ['select first_value(y) over w as n from s.a window w as (partition by k)', 'n = a.y ~ a.k | a.*'],
    ['select rank() over (w order by x) as n from s.a window w as (partition by k)', 'n ~ a.k a.x | a.*'],
    ['select rank() over v as n from s.a window w as (partition by k), v as (w order by x)', 'n ~ a.k a.x | a.*'],
    [
      'select sum(x) over (order by k rows between 1 preceding and current row) as n, y from s.a',
      'n = a.x ~ a.k; y = a.y | a.*',
    ],
    ['select sum(sum(x)) over (order by k) as n from s.a group by k', 'n = a.x ~ a.k | a.* a.k'],
    ['select x from s.a window w as (partition by k)', 'x = a.x | a.*'],
  ],
  'a scalar or array subquery gives its list, its clauses influence': [
    ['select coalesce((select max(u) from s.b), x) as n from s.a', 'n = a.x b.u ~ b.* | a.*'],
    [
      'select (select (select max(p) from s.c where c.id = b.id) from s.b where b.k = a.k) as n from s.a',
      'n = c.p ~ a.k b.* b.id b.k c.* c.id | a.*',
    ],
    ['select (select 1 from s.b limit 1) as n from s.a', 'n ~ b.* | a.*'],
    ['select (select u from s.b order by v desc limit 1) as n from s.a', 'n = b.u ~ b.* b.v | a.*'],
    ['select (select u from s.b) as n from s.a', 'n = b.u ~ b.* | a.*'],
    ['select (select max(u) from s.b where b.k = a.k) as n from s.a', 'n = b.u ~ a.k b.* b.k | a.*'],
    ['select (select a.x) as n from s.a', 'n = a.x | a.*'],
    ['select array(select u from s.b order by v) as n from s.a', 'n = b.u ~ b.* | a.*'],
    ['select array(select u from s.b order by v limit 2) as n from s.a', 'n = b.u ~ b.* b.v | a.*'],
    ['select (select count(*) from s.b where u = x) as n from s.a', 'n ~ a.x b.* b.u | a.*'],
    ['select 1 + (select u from s.b limit 1) as n from s.a', 'n = b.u ~ b.* | a.*'],
    ['select (select u from s.b group by u having count(v) > 1) as n from s.a', 'n = b.u ~ b.* b.u b.v | a.*'],
  ],
  'in, any and all take both sides': [
    ['select x = all (array[k, id]) as n from s.a', 'n = a.id a.k a.x | a.*'],
    ['select x in (select u from s.b) and k = 1 as n from s.a', 'n = a.k a.x b.u ~ b.* | a.*'],
    ['select x in (select u from s.b) as n from s.a', 'n = a.x b.u ~ b.* | a.*'],
    ['select x = any (select u from s.b where v is null) as n from s.a', 'n = a.x b.u ~ b.* b.v | a.*'],
    ['select x > all (select u from s.b) as n from s.a', 'n = a.x b.u ~ b.* | a.*'],
    ['select x not in (select k from s.b) as n from s.a', 'n = a.x b.k ~ b.* | a.*'],
    ['select (x, k) in (select u, k from s.b) as n from s.a', 'n = a.k a.x b.k b.u ~ b.* | a.*'],
    ['select x = any (q) as n from s.a, s.c', 'n = a.x c.q | a.* c.*'],
  ],
  'a union takes columns by their place': [
    ['select x + k as n from s.a union all select u from s.b', 'n = a.k a.x b.u | a.* b.*'],
    [
      'select n from (select x as n from s.a union all select u from s.b) q where n > 1',
      'n = a.x b.u | a.* a.x b.* b.u',
    ],
    [
      'with w as (select x from s.a union all select u from s.b) select x, x + 1 as m from w',
      'x = a.x b.u; m = a.x b.u | a.* b.*',
    ],
    ['select x from s.a union all select u from s.b', 'x = a.x b.u | a.* b.*'],
    ['select x, k from s.a union all select k, u from s.b', 'x = a.x b.k; k = a.k b.u | a.* b.*'],
    ['select x from s.a union all select 1', 'x = a.x | a.*'],
    ['select 1 as x union all select u from s.b', 'x = b.u | b.*'],
    ['(select x from s.a where k = 1) union all select u from s.b', 'x = a.x b.u | a.* a.k b.*'],
    ['select x from s.a union all select u from s.b union all select p from s.c', 'x = a.x b.u c.p | a.* b.* c.*'],
  ],
  'a union without all compares its outputs': [
    ['select x from s.a union select u from s.b', 'x = a.x b.u | a.* a.x b.* b.u'],
    ['select x, y from s.a union select u, v from s.b', 'x = a.x b.u; y = a.y b.v | a.* a.x a.y b.* b.u b.v'],
    ['select 1 as n from s.a union select 2', 'n | a.*'],
    ['select x, 1 as n from s.a union select u, 2 from s.b', 'x = a.x b.u; n | a.* a.x b.* b.u'],
    ['select max(x) as n from s.a union select u from s.b', 'n = a.x b.u | a.* a.x b.* b.u'],
  ],
  'intersect and except take the left side, and compare both': [
    ['select x from s.a intersect all select u from s.b where v is null', 'x = a.x | a.* a.x b.* b.u b.v'],
    ['select x from s.a union all (select u from s.b except select p from s.c)', 'x = a.x b.u | a.* b.* b.u c.* c.p'],
    ['select x from s.a intersect select u from s.b', 'x = a.x | a.* a.x b.* b.u'],
    ['select x from s.a except select u from s.b', 'x = a.x | a.* a.x b.* b.u'],
    ['select x from s.a except all select u from s.b', 'x = a.x | a.* a.x b.* b.u'],
    ['select x, y from s.a except select u, v from s.b', 'x = a.x; y = a.y | a.* a.x a.y b.* b.u b.v'],
    ['select x from s.a except select u from s.b where k = 1', 'x = a.x | a.* a.x b.* b.k b.u'],
  ],
  'what a join merges is taken from the side that has it': [
    ['select k, y, v from s.a join s.b using (k)', 'k = a.k; y = a.y; v = b.v | a.* a.k b.* b.k'],
    ['select k + 1 as n from s.a full join s.b using (k) where k > 1', 'n = a.k b.k | a.* a.k b.* b.k'],
    ['select k, count(*) as n from s.a right join s.b using (k) group by k', 'k = b.k; n | a.* a.k b.* b.k'],
    ['select k from s.a join s.b using (k)', 'k = a.k | a.* a.k b.* b.k'],
    ['select k from s.a left join s.b using (k)', 'k = a.k | a.* a.k b.* b.k'],
    ['select k from s.a right join s.b using (k)', 'k = b.k | a.* a.k b.* b.k'],
    ['select k from s.a full join s.b using (k)', 'k = a.k b.k | a.* a.k b.* b.k'],
    ['select b.k from s.a left join s.b using (k)', 'k = b.k | a.* a.k b.* b.k'],
    [
      'select k, id, p from (select k, x from s.a) a natural join s.b cross join (select p from s.c) c',
      'k = a.k; id = b.id; p = c.p | a.* a.k b.* b.k c.*',
    ],
    [
      'select * from (select id, x from s.a) a natural full join (select id, u from s.b) b',
      'id = a.id b.id; x = a.x; u = b.u | a.* a.id b.* b.id',
    ],
    ['select j.k from s.a join s.b using (k) as j', 'k = a.k | a.* a.k b.* b.k'],
    ['select id from s.a join s.b using (id) join s.c using (id)', 'id = a.id | a.* a.id b.* b.id c.* c.id'],
    [
      'select id from s.a full join s.b using (id) full join s.c using (id)',
      'id = a.id b.id c.id | a.* a.id b.* b.id c.* c.id',
    ],
    ['select m.k from (s.a join s.b using (k)) as m', 'k = a.k | a.* a.k b.* b.k'],
  ],
  'a condition of a join influences': [
    ['select x from s.a, s.b where a.k = b.k', 'x = a.x | a.* a.k b.* b.k'],
    [
      'select x from s.a left join (s.b join s.c on c.id = b.id) on b.k = a.k',
      'x = a.x | a.* a.k b.* b.id b.k c.* c.id',
    ],
    ['select x from s.a join s.b on exists (select from s.c where c.p = b.u)', 'x = a.x | a.* b.* b.u c.* c.p'],
    ['select x from s.a join s.b on a.k = b.k', 'x = a.x | a.* a.k b.* b.k'],
    ['select x from s.a left join s.b on a.k = b.k and b.u > 1', 'x = a.x | a.* a.k b.* b.k b.u'],
    ['select u from s.a cross join s.b', 'u = b.u | a.* b.*'],
    ['select u from s.a join s.b on true', 'u = b.u | a.* b.*'],
    ['select u from s.a full join s.b on a.x = b.u', 'u = b.u | a.* a.x b.* b.u'],
    ['select p from s.a join s.b on a.k = b.k join s.c on c.p = b.u', 'p = c.p | a.* a.k b.* b.k b.u c.* c.p'],
  ],
  'where and having influence': [
    ['select x from s.a where (select count(*) from s.b where b.k = a.k) > 1', 'x = a.x | a.* a.k b.* b.k'],
    ['select max(x) as n from s.a group by k having min(id) > 1 and k > 2', 'n = a.x | a.* a.id a.k'],
    ["select x from s.a where k in (1, 2) or y like 'a%'", 'x = a.x | a.* a.k a.y'],
    ['select x from s.a where k = 1', 'x = a.x | a.* a.k'],
    ['select x from s.a where y is not null and k > id', 'x = a.x | a.* a.id a.k a.y'],
    ['select x from s.a where exists (select from s.b where b.k = a.k)', 'x = a.x | a.* a.k b.* b.k'],
    ['select x from s.a where x in (select u from s.b where v is null)', 'x = a.x | a.* a.x b.* b.u b.v'],
    ['select k from s.a group by k having sum(x) > 1', 'k = a.k | a.* a.k a.x'],
    ['select count(*) as n from s.a having count(*) > 1', 'n | a.*'],
    ['select x from s.a where false', 'x = a.x | a.*'],
  ],
  'what is grouped by influences': [
    ['select max(x) as n from s.a group by k % 2', 'n = a.x | a.* a.k'],
    ['select y as g, count(*) as n from s.a group by g', 'g = a.y; n | a.* a.y'],
    ['select n from (select k, count(*) as n from s.a group by k) q', 'n | a.* a.k'],
    ['select count(*) as n from s.a group by k', 'n | a.* a.k'],
    ['select k, sum(x) as n from s.a group by k', 'k = a.k; n = a.x | a.* a.k'],
    ['select sum(x) as n from s.a group by k, y', 'n = a.x | a.* a.k a.y'],
    ['select x + 1 as n from s.a group by 1', 'n = a.x | a.* a.x'],
    ['select x + k as n from s.a group by n', 'n = a.k a.x | a.* a.k a.x'],
    ['select sum(x) as n from s.a group by grouping sets ((k), (y), ())', 'n = a.x | a.* a.k a.y'],
    ['select sum(x) as n from s.a group by rollup (k, y)', 'n = a.x | a.* a.k a.y'],
    ['select sum(x) as n from s.a group by cube (k, (y, id))', 'n = a.x | a.* a.id a.k a.y'],
    ['select grouping(k) as n from s.a group by rollup (k)', 'n = a.k | a.* a.k'],
  ],
  'distinct compares its outputs': [
    ['select n from (select distinct x as n, y from s.a) q', 'n = a.x | a.* a.x a.y'],
    ['select count(*) as n from (select distinct k from s.a) q', 'n | a.* a.k'],
    ['select distinct x from s.a', 'x = a.x | a.* a.x'],
    ['select distinct x, y from s.a', 'x = a.x; y = a.y | a.* a.x a.y'],
    ['select distinct 1 as n from s.a', 'n | a.*'],
    ['select distinct on (k) x from s.a', 'x = a.x | a.* a.k'],
    ['select distinct on (k) x from s.a order by k, y', 'x = a.x | a.* a.k a.y'],
    ['select distinct on (k + id) x, y from s.a order by k + id, y desc', 'x = a.x; y = a.y | a.* a.id a.k a.y'],
    ['select distinct on (1) x, y from s.a order by 1, 2', 'x = a.x; y = a.y | a.* a.x a.y'],
  ],
  'an order that is cut influences': [
    ['select x from s.a order by k, y desc limit 2 offset 1', 'x = a.x | a.* a.k a.y'],
    ['select n from (select x as n, k from s.a order by y) q limit 1', 'n = a.x | a.*'],
    ['(select x from s.a order by k limit 1) union all select u from s.b', 'x = a.x b.u | a.* a.k b.*'],
    ['select x from s.a order by k', 'x = a.x | a.*'],
    ['select x from s.a order by k limit 1', 'x = a.x | a.* a.k'],
    ['select x from s.a order by k offset 1', 'x = a.x | a.* a.k'],
    ['select x as n from s.a order by n limit 1', 'n = a.x | a.* a.x'],
    ['select x from s.a order by 1 fetch first 1 row with ties', 'x = a.x | a.* a.x'],
    ['select x from s.a limit (select max(u) from s.b)', 'x = a.x | a.* b.* b.u'],
    ['select x from s.a union all select u from s.b order by x limit 1', 'x = a.x b.u | a.* a.x b.* b.u'],
    ['select n from (select x as n from s.a order by k limit 1) t', 'n = a.x | a.* a.k'],
  ],
  'a subquery and a common table expression go through': [
    ['select n from (select x as n from s.a where k = 1) t', 'n = a.x | a.* a.k'],
    ['with w as (select x as n from s.a where k = 1) select n from w', 'n = a.x | a.* a.k'],
    ['with w (m) as (select x from s.a) select m from w', 'm = a.x | a.*'],
    ['with w as (select x from s.a), z as (select x from w where x > 1) select x from z', 'x = a.x | a.* a.x'],
    ['with w as (select x from s.a), z as (select u from s.b where k = 1) select x from w', 'x = a.x | a.*'],
    [
      'with w as (select k, sum(x) as n from s.a group by k) select w.n from s.b join w on w.k = b.k',
      'n = a.x | a.* a.k b.* b.k',
    ],
    ['with a as (select u from s.b) select u from a', 'u = b.u | b.*'],
    ['select (with w as (select u from s.b) select max(u) from w) as n from s.a', 'n = b.u ~ b.* | a.*'],
    ['select n from (select row_number() over (order by k) as n from s.a) t', 'n ~ a.k | a.*'],
    ['select x from (select x, row_number() over (order by k) as n from s.a) t where n = 1', 'x = a.x | a.* a.k'],
  ],
  'a lateral subquery sees what is before it': [
    ['select l.n from s.a, lateral (select a.x + 1 as n) l', 'n = a.x | a.*'],
    ['select l.u from s.a cross join lateral (select u from s.b where b.k = a.k) l', 'u = b.u | a.* a.k b.* b.k'],
    [
      'select l.u from s.a left join lateral (select u from s.b where b.k = a.k order by v limit 1) l on true',
      'u = b.u | a.* a.k b.* b.k b.v',
    ],
    ['select l.n from s.a, lateral (values (x), (k)) l (n)', 'n = a.k a.x | a.*'],
    ['select l.n, y from s.a, lateral (select count(*) as n from s.b where u = x) l', 'n; y = a.y | a.* a.x b.* b.u'],
  ],
  'a function of from gives its arguments, which decide the rows': [
    ['select n from s.a, generate_series(1, x) as n', 'n = a.x | a.* a.x'],
    ['select generate_series from s.a, generate_series(k, x)', 'generate_series = a.k a.x | a.* a.k a.x'],
    ['select e from s.c, unnest(q) as e', 'e = c.q | c.* c.q'],
    ['select key, value from s.c, jsonb_each(j)', 'key = c.j; value = c.j | c.* c.j'],
    ['select o, e from s.c, unnest(q) with ordinality as t (e, o)', 'o; e = c.q | c.* c.q'],
    [
      'select m, n from s.a, s.c, rows from (unnest(q), generate_series(1, x)) as t (m, n)',
      'm = c.q; n = a.x | a.* a.x c.* c.q',
    ],
    ['select m, n from s.a, s.c, unnest(q, array[x]) as t (m, n)', 'm = c.q; n = a.x | a.* a.x c.* c.q'],
    ['select t.a from s.c, jsonb_to_record(j) as t (a integer, b text)', 'a = c.j | c.* c.j'],
    ['select w from s.a, functions.words(y) as w', 'w = a.y | a.* a.y'],
    [
      "select t.w, t.o from s.a, xmltable('/r' passing xmlelement(name r, y) columns w text path '.', o for ordinality) t",
      'w = a.y; o | a.* a.y',
    ],
    ['select 1 as n from generate_series(1, 3)', 'n |'],
  ],
  'a set in the list decides the rows': [
    ['select generate_series(1, x) as n from s.a', 'n = a.x | a.* a.x'],
    ['select unnest(q) as e, p from s.c', 'e = c.q; p = c.p | c.* c.q'],
    ['select jsonb_array_elements(j) as e from s.c', 'e = c.j | c.* c.j'],
    ['select functions.words(y) as w, x from s.a', 'w = a.y; x = a.x | a.* a.y'],
    ['select y, generate_series(1, 2) as n from s.a', 'y = a.y; n | a.*'],
  ],
  'the rows of each table in from decide': [
    ['select 1 as n from s.a', 'n | a.*'],
    ['select count(*) as n from s.a, s.b', 'n | a.* b.*'],
    ['select count(*) as n from (select 1 from s.a) t', 'n | a.*'],
    ['select x from s.a tablesample bernoulli (10)', 'x = a.x | a.*'],
    ['select x from s.a, (select from s.b) t', 'x = a.x | a.* b.*'],
    ['select x from s.a tablesample system ((select max(u) from s.b))', 'x = a.x | a.* b.* b.u'],
  ],
  'a whole row is all its columns': [
    ['select a from s.a', 'a = a.id a.k a.x a.y | a.*'],
    ['select t::text as n from s.b t', 'n = b.id b.k b.u b.v | b.*'],
    ['select to_jsonb(t) as n from (select x, y from s.a) t', 'n = a.x a.y | a.*'],
    ['select count(a) as n from s.a', 'n = a.id a.k a.x a.y | a.*'],
    ['select (t).x from (select a as t from s.a) z', 'x = a.x | a.*'],
    ['select (t).* from (select a as t from s.a) z', 'id = a.id; k = a.k; x = a.x; y = a.y | a.*'],
    ['select (z.t).y as n from (select a as t from s.a) z', 'n = a.y | a.*'],
    ['select (row(x, k)::s.b).u as n from s.a', 'n = a.k a.x | a.*'],
    ['select row(t.*) as n from (select x from s.a) t', 'n = a.x | a.*'],
    ['select e from s.a, generate_series(1, x) as e where e is not null', 'e = a.x | a.* a.x'],
  ],
  'a recursion is the least fixed point': [
    [
      'with recursive r as (select 1 as n union all select n + 1 from r where n < (select max(x) from s.a)) select n from r',
      'n | a.* a.x',
    ],
    [
      'with recursive r (n) as (values (1) union all select u from r join s.b on b.k = r.n) select n from r',
      'n = b.u | b.* b.k b.u',
    ],
    [
      'with recursive r as (select x from s.a union all select x + 1 from r where x < 9) select x from r',
      'x = a.x | a.* a.x',
    ],
    [
      'with recursive r (m, n) as (select x, k from s.a union all select n, m from r) select m from r',
      'm = a.k a.x | a.*',
    ],
    [
      'with recursive r as (select id, x from s.a union all select b.id, r.x from r join s.b on b.k = r.id) select x from r',
      'x = a.x | a.* a.id b.* b.id b.k',
    ],
    [
      'with recursive r as (select id, x from s.a union select b.id, r.x from r join s.b on b.k = r.id) select x from r',
      'x = a.x | a.* a.id a.x b.* b.id b.k',
    ],
    [
      'with recursive r as (select x from s.a union all select u from s.b where u in (select x from r)) select x from r',
      'x = a.x b.u | a.* a.x b.* b.u',
    ],
    [
      'with recursive f as (select x from l), l as (select x from s.a where k = 1) select x from f',
      'x = a.x | a.* a.k',
    ],
    [
      'with recursive r (p1, p2, p3) as (select x, k, id from s.a union all select p2, p3, p3 from r) select p1 from r',
      'p1 = a.id a.k a.x | a.*',
    ],
    [
      'with recursive r as (select id, x from s.a union all select id, x from r) search breadth first by x set o select o from r',
      'o = a.x | a.*',
    ],
    [
      'with recursive r as (select id, x from s.a union all select id, x from r) cycle id set m using w select m, w from r',
      'm ~ a.id; w = a.id | a.*',
    ],
  ],
  values: [
    ['values (1, 2)', 'column1; column2 |'],
    ['select m from s.a, lateral (values (x, y), (k, null)) t (m, n)', 'm = a.k a.x | a.*'],
    ['values ((select max(x) from s.a)), (1)', 'column1 = a.x ~ a.* |'],
    ['select t.m from (values (1), (2)) t (m) join s.a on a.k = t.m', 'm | a.* a.k'],
    ['select n from (values (1, 2)) t (m, n)', 'n |'],
  ],
};

for (const [rule, cases] of Object.entries(RULES))
  describe(rule, () => {
    test.each(cases.map(([sql, expected]) => [sql, expected]))('%s', (sql, expected) =>
      expect(way(sql)).toBe(expected),
    );
  });
