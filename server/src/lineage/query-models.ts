/**
 * Random queries that put constructs of PostgreSQL's query language into each other: each construct takes a query with
 * the columns k and z (integer) and v (text) and gives one.
 */
export type Random = (below: number) => number;

/** Tables of the schema `s`: `a` has k, v, z; `b` has k, w, y; `c` has k, g (an array), j (jsonb). */
export const TABLES = ['a', 'b', 'c'] as const;
export const COLUMNS = { a: ['k', 'v', 'z'], b: ['k', 'w', 'y'], c: ['k', 'g', 'j'] } as const;

interface Roles {
  readonly query: string;
  readonly s: string;
  /** A column at random, as text and as a number. */
  readonly text: string;
  readonly number: string;
  readonly random: Random;
}
type Construct = (roles: Roles) => string;

const join =
  (kind: string, on = 'using (k)'): Construct =>
  ({ query, s }) =>
    `select k, coalesce(v, w) as v, z from ${query} q ${kind} join ${s}.b ${on}`;

/** What is put around a query, by name. */
export const CONSTRUCTS: Readonly<Record<string, Construct>> = {
  'function in from': ({ query, number }) =>
    `select q.k, q.v, q.z + g.n - g.n as z from ${query} q, generate_series(1, abs(${number}) % 2 + 1) as g(n)`,
  'function of the project': ({ query, s }) => `select q.k, r.word as v, q.z from ${query} q, ${s}.words(q.v) as r`,
  'function without alias': ({ query }) =>
    `select q.k, q.v || generate_series as v, q.z from ${query} q, generate_series(1, 2)`,
  'rows from': ({ query }) =>
    `select q.k, x.b as v, q.z from ${query} q, rows from (generate_series(1, 2), unnest(array[q.v, 'z'])) as x(a, b)`,
  ordinality: ({ query }) =>
    `select q.k, u.w as v, u.o::integer as z from ${query} q, unnest(array[q.v, 'p']) with ordinality as u(w, o)`,
  'column definitions': ({ query }) =>
    `select q.k, r.b as v, r.a as z from ${query} q, json_to_record(json_build_object('a', q.z, 'b', q.v)) as r (a integer, b text)`,
  xmltable: ({ query }) =>
    `select q.k, x.w as v, x.n as z from ${query} q, xmltable('/r' passing xmlelement(name r, q.v) columns w text path '.', n for ordinality) as x`,
  'json function': ({ query }) =>
    `select q.k, e.value as v, q.z from ${query} q, jsonb_each_text(jsonb_build_object('k', q.v)) as e`,
  'inner using': join(''),
  'left using': join('left'),
  'right using': join('right'),
  'full using': join('full'),
  natural: ({ query, s }) =>
    `select k, coalesce(v, w) as v, z from ${query} q natural join (select k, w from ${s}.b) r`,
  'join on': ({ query, s, number }) =>
    `select q.k, q.v, r.y as z from ${query} q left join ${s}.b r on r.k = ${number} and r.w is not null`,
  'join alias': ({ query }) => `select o.k, o.v, o.z from (${query} q cross join (select 1 as one) p) as o`,
  'using alias': ({ query, s }) => `select o.k, q.v, q.z from ${query} q join ${s}.b as r using (k) as o`,
  recursion: ({ query }) =>
    `with recursive r (k, v, z, d) as (select k, v, z, 1 from ${query} q union all select r.k + 1, r.v, r.k, d + 1 from r where d < 3) select k, v, z from r`,
  search: ({ query }) =>
    `with recursive r as (select k, v, z, 1 as d from ${query} q union all select r.k, r.v, r.z, r.d + 1 from r where d < 2) search depth first by v set o select k, o::text as v, z from r`,
  cycle: ({ query }) =>
    `with recursive r as (select k, v, z from ${query} q union all select r.k, r.v, r.z from r) cycle k set seen using way select k, v, case when seen then 1 else z end as z from r`,
  'forward reference': ({ query }) =>
    `with recursive f as (select k, v, z from later), later as (select k, v, z from ${query} q) select k, v, z from f`,
  'common table expression': ({ query }) =>
    `with w as materialized (select k, v, z from ${query} q), unread as (select * from w where v is null) select k, v, z from w`,
  'whole row': ({ query }) => `select q.k, q::text as v, q.z from ${query} q`,
  'star of an expression': ({ query, s }) =>
    `select (p.c).*, p.z from (select row(q.k, q.v)::${s}.pair as c, q.z from ${query} q) p`,
  'composite field': ({ query, s }) =>
    `select (p.c).k, (p.c).v, p.z from (select row(q.k, q.v)::${s}.pair as c, q.z from ${query} q) p`,
  'array element': ({ query }) =>
    `select k, (array[v, 'x'])[1] as v, (array[z, k])[1 + abs(z) % 2] as z from ${query} q`,
  union: ({ query, s }) => `select k, v, z from ${query} q union select k, w, y from ${s}.b`,
  'union all': ({ query, s }) => `select k, v, z from ${query} q union all select k, w, k from ${s}.b`,
  intersect: ({ query, s }) => `select k, v, z from ${query} q intersect select k, w, y from ${s}.b`,
  except: ({ query, s }) => `select k, v, z from ${query} q except all select k, w, y from ${s}.b`,
  'group by': ({ query, number }) =>
    `select ${number} as k, min(v) as v, sum(z)::integer as z from ${query} q group by 1`,
  'grouping sets': ({ query }) =>
    `select coalesce(k, 0) as k, max(v) as v, grouping(k) as z from ${query} q group by grouping sets ((k), ())`,
  rollup: ({ query }) => `select coalesce(k, 9) as k, v, count(*)::integer as z from ${query} q group by rollup (k, v)`,
  having: ({ query, text }) =>
    `select k, min(v) as v, max(z) as z from ${query} q group by k having max(${text}) > 'b'`,
  'window function': ({ query }) =>
    `select k, lag(v) over (partition by k % 2 order by k, v, z) as v, z from ${query} q`,
  'named window': ({ query }) =>
    `select k, first_value(v) over w as v, (rank() over w)::integer as z from ${query} q window o as (partition by k), w as (o order by z, v)`,
  filter: ({ query, number }) =>
    `select k, max(v) filter (where ${number} > 1) as v, count(*)::integer as z from ${query} q group by k`,
  'within group': ({ query }) =>
    `select k, percentile_disc(0.5) within group (order by v) as v, min(z) as z from ${query} q group by k`,
  'order in an aggregate': ({ query }) =>
    `select k, string_agg(v, ',' order by z, v) as v, count(distinct v)::integer as z from ${query} q group by k`,
  lateral: ({ query, s }) =>
    `select q.k, l.v, q.z from ${query} q cross join lateral (select r.w || coalesce(q.v, '') as v from ${s}.b r where r.k = q.k) l`,
  values: ({ query }) =>
    `select q.k, x.v, q.z from ${query} q join (values (1, 'one'), (2, 'two'), (3, null)) as x(k, v) on x.k = q.z`,
  'scalar subquery': ({ query, s }) =>
    `select q.k, (select max(r.w) from ${s}.b r where r.k = q.k) as v, q.z from ${query} q`,
  'array subquery': ({ query, s }) =>
    `select q.k, array_to_string(array(select r.w from ${s}.b r where r.y < q.z order by r.w), ',') as v, q.z from ${query} q`,
  exists: ({ query, s, number }) =>
    `select k, v, z from ${query} q where exists (select 1 from ${s}.b r where r.k = ${number})`,
  'not in': ({ query, s, number }) =>
    `select k, v, z from ${query} q where ${number} not in (select r.k from ${s}.b r where r.k is not null)`,
  'any of a subquery': ({ query, s }) =>
    `select k, v, (z = any (select r.y from ${s}.b r))::integer as z from ${query} q`,
  where: ({ query, text }) => `select k, v, z from ${query} q where ${text} is not null`,
  case: ({ query, number }) =>
    `select k, case when ${number} > 2 then v else 'low' end as v, nullif(z, k) as z from ${query} q`,
  distinct: ({ query }) => `select distinct k, v, z from ${query} q`,
  'distinct on': ({ query }) => `select distinct on (k) k, v, z from ${query} q order by k, z, v`,
  'order and limit': ({ query }) => `select k, v, z from ${query} q order by z, v, k limit 4`,
  'for update of': ({ query, s }) => `select q.k, q.v, r.z from ${query} q join ${s}.a r on r.k = q.k for update of r`,
  tablesample: ({ query, s }) =>
    `select q.k, r.w as v, q.z from ${query} q join ${s}.b r tablesample bernoulli (100) repeatable (1) on r.k = q.k`,
};

const NAMES = Object.keys(CONSTRUCTS);

export interface GeneratedQuery {
  readonly sql: string;
  readonly constructs: readonly string[];
}

const START: readonly ((s: string) => string)[] = [
  (s) => `(select k, v, z from ${s}.a)`,
  (s) => `(select k, w as v, y as z from ${s}.b)`,
  (s) => `(select c.k, c.j ->> 'v' as v, c.g[1] as z from ${s}.c)`,
  (s) => `(select a.k, b.w as v, a.z from ${s}.a, ${s}.b where a.k = b.y)`,
];

/** Locks are for rows of tables: a query that has them stands in a subquery as it is, but in no other's recursion. */
const isLast = (name: string) => name === 'for update of';

/** A query of these constructs, from the inside out. */
export function queryOf(constructs: readonly string[], s: string, random: Random): GeneratedQuery {
  let query = START[random(START.length)]!(s);
  const ordered = [...constructs].sort((a, b) => Number(isLast(a)) - Number(isLast(b)));
  let sql = '';
  for (const name of ordered) {
    const text = ['q.v', 'q.k::text', 'q.z::text'][random(3)]!;
    const number = ['q.k', 'q.z', 'coalesce(length(q.v), 0)'][random(3)]!;
    sql = CONSTRUCTS[name]!({ query, s, text, number, random });
    query = `(${sql})`;
  }
  return { sql, constructs: ordered };
}

/** Queries in which each pair of constructs occurs, then such of three at random, `count` in all. */
export function* generatedQueries(count: number, s: string, random: Random): Generator<GeneratedQuery> {
  const pairs = NAMES.flatMap((a, i) => NAMES.slice(i + 1).map((b) => [a, b]));
  const some = () => NAMES[random(NAMES.length)]!;
  for (let n = 0; n < count; n++) {
    const pair = pairs[n] ?? [some(), some()];
    const third = some();
    const constructs = random(2) ? [...pair, third] : [third, ...pair.reverse()];
    yield queryOf([...new Set(constructs)], s, random);
  }
}

/** How often each construct occurs, and which pairs do not. */
export function coverage(queries: readonly GeneratedQuery[]) {
  const counts = new Map<string, number>(NAMES.map((name) => [name, 0]));
  const pairs = new Set<string>();
  for (const { constructs } of queries) {
    for (const name of constructs) counts.set(name, counts.get(name)! + 1);
    for (const a of constructs) for (const b of constructs) pairs.add(`${a} ${b}`);
  }
  const missing = NAMES.flatMap((a, i) =>
    NAMES.slice(i + 1)
      .filter((b) => !pairs.has(`${a} ${b}`))
      .map((b) => `${a}, ${b}`),
  );
  return { counts, missing };
}
