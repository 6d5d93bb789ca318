import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { problems, projectOf } from '../testing.js';

beforeAll(loadParser);

/** What is wrong with a query over landing tables, as `[where] what`. */
const told = (query: string) =>
  problems(projectOf({ 'adhoc/x.sql': query })).map((p) => p.replace('adhoc/x.sql ', '').replace(/ \(.*\)$/, ''));

const W = 'with c as (select berth_code as b, length_m as l, 1 as n from landing.berth)';

describe('columns of a grouped query', () => {
  test.each<[string, string, string[]]>([
    ['grouped', `${W} select b, count(*) as m from c group by b`, []],
    ['not grouped', `${W} select b, l, count(*) as m from c group by b`, ['[l] l is neither grouped nor aggregated']],
    [
      'by another name of the table',
      `${W} select x.l as k from c x group by x.b`,
      ['[x.l] x.l is neither grouped nor aggregated'],
    ],
    ['beside an aggregate alone', `${W} select b, max(l) as m from c`, ['[b] b is neither grouped nor aggregated']],
    ['in having', `${W} select b from c group by b having l > 3`, ['[l] l is neither grouped nor aggregated']],
    ['in order by', `${W} select b from c group by b order by l`, ['[l] l is neither grouped nor aggregated']],
    ['ordered by an output column', `${W} select b, max(l) as n from c group by b order by n`, []],
    ['grouped by number', `${W} select l + 1 as k, count(*) as m from c group by 1`, []],
    ['grouped by an output column', `${W} select l + 1 as k, count(*) as m from c group by k`, []],
    ['grouped by an expression', `${W} select upper(b) || '!' as k from c group by upper(b)`, []],
    ['grouped by an expression with its table', `${W} select lower(c.b) as k from c group by lower(b)`, []],
    [
      'grouped by another expression',
      `${W} select lower(b) as k from c group by upper(b)`,
      ['[b] b is neither grouped nor aggregated'],
    ],
    ['in a set of groups', `${W} select b, l from c group by grouping sets ((b), (l), ())`, []],
    ['in a cube', `${W} select b, grouping(b) as g from c group by cube (b, l)`, []],
    ['in an aggregate', `${W} select sum(l) filter (where n > 0) as s from c`, []],
    ['in a window over groups', `${W} select b, sum(sum(l)) over (order by b) as s from c group by b`, []],
    [
      'in a window that needs more',
      `${W} select b, sum(l) over () as s from c group by b`,
      ['[l] l is neither grouped nor aggregated'],
    ],
    ['of a stored table by its key', 'select berth_code, length_m from landing.berth group by berth_code', []],
    [
      'of a stored table without its key',
      'select berth_code, count(*) as n from landing.berth',
      ['[berth_code] berth_code is neither grouped nor aggregated'],
    ],
    ['joined by name', `${W} select b, d.l from c join (select 'x' as b, 3 as l) d using (b) group by b, d.l`, []],
    ['joined by all names', `${W} select c.l from c natural join (select 1 as n) d group by c.b`, []],
    ['joined under a name', `${W} select j.l from (c cross join (select 1 as z) d) as j group by j.b`, []],
    [
      'joined by a condition',
      `${W} select c.l from c join (select 1 as z) d on d.z = c.n group by c.b`,
      ['[c.l] c.l is neither grouped nor aggregated'],
    ],
    ['grouped by several at once', `${W} select b, l from c group by (b, l)`, []],
    ['of the query around it', `${W} select (select max(c.l) from landing.call) as m from c group by b`, []],
    ['that are all taken', `${W} select * from c group by b, l, n`, []],
  ])('%s', (_, query, expected) => expect(told(query)).toEqual(expected));
});

describe('calls in their place', () => {
  test.each<[string, string, string[]]>([
    [
      'an aggregate in where',
      `${W} select b from c where count(*) > 1`,
      ['[count] the aggregate count is not allowed here: where is decided before rows are grouped'],
    ],
    ['an aggregate in having', `${W} select b from c group by b having count(*) > 1`, []],
    [
      'an aggregate of the query around it',
      `${W} select b from c group by b having exists (select 1 from landing.call where max(c.l) > 3)`,
      [],
    ],
    [
      'an aggregate in a join',
      `${W} select 1 as k from c join landing.berth d on max(d.length_m) > 1`,
      ['[max] the aggregate max is not allowed here: joins are made before rows are grouped'],
    ],
    [
      'an aggregate to group by',
      `${W} select 1 as k from c group by sum(l)`,
      ['[sum] the aggregate sum is not allowed here: it would have to be known before rows are grouped'],
    ],
    [
      'an aggregate of an aggregate',
      `${W} select sum(max(l)) as k from c`,
      ['[max] the aggregate max is not allowed here: aggregates do not nest'],
    ],
    [
      'a window in where',
      `${W} select b from c where row_number() over (order by b) = 1`,
      ['[row_number] the window function row_number is not allowed here: windows are computed later'],
    ],
    [
      'a window in having',
      `${W} select b from c group by b having rank() over (order by b) = 1`,
      ['[rank] the window function rank is not allowed here: windows are computed later'],
    ],
    [
      'a window in a window',
      `${W} select lag(lag(l) over w) over w as k from c window w as (order by b)`,
      ['[lag] the window function lag is not allowed here: windows do not nest'],
    ],
    [
      'a window in an aggregate',
      `${W} select sum(rank() over (order by b)) as k from c`,
      ['[rank] the window function rank is not allowed here: aggregates do not nest'],
    ],
    ['an aggregate in a window', `${W} select rank() over (order by sum(l)) as k from c group by b`, []],
    [
      'an aggregate with its schema',
      `${W} select b from c where pg_catalog.count(*) > 1`,
      ['[pg_catalog] the aggregate count is not allowed here: where is decided before rows are grouped'],
    ],
    [
      'a function of the project that is called as one',
      `${W} select b from c where functions.max(l) > 1`,
      ['[functions.max] there is no function functions.max'],
    ],
    ['a function that only sounds like one', `${W} select b from c where greatest(l, 1) > 1`, []],
  ])('%s', (_, query, expected) => expect(told(query)).toEqual(expected));
});

describe('the form of a recursion', () => {
  const recursive = (body: string) => `with recursive r as (${body}) select n from r`;
  test.each<[string, string, string[]]>([
    ['a union', recursive('select 1 as n union all select n + 1 from r where n < 5'), []],
    [
      'no union',
      recursive('select n + 1 as n from r'),
      ['[r] r is recursive without a union of where it begins and what follows'],
    ],
    [
      'another set',
      recursive('select 1 as n except select n + 1 from r'),
      ['[r] r is recursive without a union of where it begins and what follows'],
    ],
    [
      'read where it begins',
      recursive('select n from r union all select 1 as n'),
      ['[r] r reads itself in the part with which it begins'],
    ],
    [
      'read twice',
      recursive('select 1 as n union all select a.n from r a join r b on a.n = b.n'),
      ['[r] r reads itself more than once'],
    ],
    [
      'followed by a column that it has not',
      'with recursive r as (select 1 as n union all select n + 1 from r) search depth first by m set o select n from r',
      ['[search depth first by m] there is no column m'],
    ],
    [
      'a cycle of a column that it has not',
      'with recursive r as (select 1 as n union all select n + 1 from r) cycle m set seen using way select n from r',
      ['[cycle m] there is no column m'],
    ],
    ['not recursive at all', recursive('select 1 as n'), []],
    ['hidden by a name within', recursive('with r as (select 1 as n) select n from r'), []],
  ])('%s', (_, query, expected) => expect(told(query)).toEqual(expected));
});

test('nesting without end is looked at for a while', () => {
  const deep = (depth: number) => `${'sum('.repeat(depth)}1${')'.repeat(depth)}`;
  const columns = Array.from({ length: 40 }, (_, i) => `${deep(60)} as c${i}`).join(', ');
  expect(told(`select ${columns} from landing.berth group by ${deep(60)}`)).toContain(
    '[sum] the aggregate sum is not allowed here: aggregates do not nest',
  );
});
