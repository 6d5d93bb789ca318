import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { loadText } from '../load/testing.js';

beforeAll(loadParser);

const CONTRACT = "call_no text primary key, tonnage numeric(12,2)) with (load = merge, business_key = 'call_no')";
const DIMENSION = {
  'core/dim.sql': `create table core.dim (dim_key bigint options (role 'surrogate key') primary key, berth_code text not null) with (load = merge, business_key = 'berth_code');\nselect berth_code from staging.berth;`,
};
const looking = (load: string, options = '') =>
  `call_no text primary key, dim_key bigint options (looked_up_by 'berth_code'${options}) references core.dim (dim_key)) with (${load})`;
const VIEW = {
  'staging/call.sql':
    'create table staging.call (call_no text, tonnage numeric(12,2)) with (load = view);\nselect call_no, tonnage from landing.call;',
};

/** Whether the query's rows are read where they are, or kept in a table of the load's own. */
const kept = (contract: string, query: string, files: Readonly<Record<string, string>> = {}) =>
  /create temp (view|table) (?:raw|query)_rows/.exec(loadText({ contract, query, files }))![1];

describe('rows of a query are read where they are', () => {
  test.each([
    ['of a plain query over one table', 'select call_no, tonnage from landing.call'],
    ['with a condition', 'select call_no, tonnage from landing.call where tonnage > 0'],
    [
      'with a word in a text or a comment',
      "select call_no, tonnage /* random() over (select) */ from landing.call where call_no <> 'random'",
    ],
  ])('%s', (_, query) => expect(kept(CONTRACT, query)).toBe('view'));

  test.each([
    ['of several tables', 'select c.call_no, c.tonnage from landing.call c, landing.berth b'],
    ['of a view', 'select call_no, tonnage from staging.call'],
    ['in groups', 'select call_no, max(tonnage) as tonnage from landing.call group by 1'],
    ['that differ', 'select distinct call_no, tonnage from landing.call'],
    ['in an order', 'select call_no, tonnage from landing.call order by 1'],
    ['of which some are taken', 'select call_no, tonnage from landing.call limit 5'],
    ['of which some are left out', 'select call_no, tonnage from landing.call offset 5'],
    [
      'of which all together meet a condition',
      'select max(call_no) as call_no, max(tonnage) as tonnage from landing.call having count(*) > 1',
    ],
    ['with a common table expression', 'with x as (select 1) select call_no, tonnage from landing.call'],
    ['of several queries', 'select call_no, tonnage from landing.call union all select call_no, 0 from landing.call'],
    ['that are others each time', 'select call_no, random()::numeric(12,2) as tonnage from landing.call'],
    ['with a window', 'select call_no, sum(tonnage) over (partition by call_no) as tonnage from landing.call'],
    ['with a query inside', 'select call_no, (select max(tonnage) from landing.call) as tonnage from landing.call'],
  ])('and kept %s', (_, query) => expect(kept(CONTRACT, query, VIEW)).toBe('table'));

  test.each([
    ['a rebuilt table whose keys are looked up in one pass', looking('load = rebuild'), 'view'],
    ['one that makes placeholders before', looking('load = rebuild', ", missing 'infer'"), 'table'],
    ['one that stops where a key is not known', looking('load = rebuild', ", missing 'stop'"), 'table'],
    ['a merge with look-ups', looking("load = merge, business_key = 'call_no'"), 'table'],
  ])('of %s', (_, contract, expected) =>
    expect(kept(contract, 'select call_no, berth_code from landing.call', DIMENSION)).toBe(expected),
  );

  test('of conditions that are others each time: kept', () =>
    expect(
      kept(
        CONTRACT.replace("'call_no')", "'call_no', update_when = 'random() < 0.5')"),
        'select call_no, tonnage from landing.call',
      ),
    ).toBe('table'));
});
