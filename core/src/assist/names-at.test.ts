import { beforeAll, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { namesAt } from './names-at.js';

beforeAll(loadParser);

/** The names that can be used at `|`, each with its columns; common table expressions behind a bar. */
function at(text: string): string {
  const project = projectOf();
  const { ranges, ctes } = namesAt(project, text.replace('|', ''), text.indexOf('|'));
  const shown = (n: { name: string; of: string; columns: readonly { name: string }[] }) =>
    `${n.name}${n.of === n.name ? '' : ` (${n.of})`}: ${n.columns.map((c) => c.name).join(' ')}`;
  return [ranges.map(shown).join('; '), ...(ctes.length ? [ctes.map(shown).join('; ')] : [])].join(' | ');
}

const CALL = 'call_no berth_code tonnage arrived_at';
const BERTH = 'berth_id berth_code length_m';
test.each<[string, string, string]>([
  ['a table', 'select | from landing.call', `call (landing.call): ${CALL}`],
  ['an alias', 'select c.| from landing.call c', `c (landing.call): ${CALL}`],
  ['an alias after as, quoted', 'select | from landing.call as "C"', `C (landing.call): ${CALL}`],
  [
    'joins',
    'select | from landing.call c join landing.berth b on true',
    `c (landing.call): ${CALL}; b (landing.berth): ${BERTH}`,
  ],
  [
    'a list',
    'select 1 from landing.call c, landing.berth where |',
    `c (landing.call): ${CALL}; berth (landing.berth): ${BERTH}`,
  ],
  [
    'a query inside sees those around it',
    'select (select | from landing.berth b) from landing.call c',
    `b (landing.berth): ${BERTH}; c (landing.call): ${CALL}`,
  ],
  [
    'a query around does not see those inside',
    'select | from (select call_no from landing.call) x',
    'x (subquery): call_no',
  ],
  [
    'lateral',
    'select | from landing.call c cross join lateral (select 1 as n) l',
    `c (landing.call): ${CALL}; l (subquery): n`,
  ],
  [
    'each arm of a union has its own',
    'select 1 from landing.call union all select | from landing.berth',
    `berth (landing.berth): ${BERTH}`,
  ],
  [
    'the first arm, too',
    'select | from landing.call union all select 1 from landing.berth',
    `call (landing.call): ${CALL}`,
  ],
  [
    'a common table expression',
    'with x as (select call_no from landing.call) select | from x',
    'x: call_no | x (common table expression): call_no',
  ],
  [
    'its named columns',
    'with x (a) as (select call_no from landing.call) select | from x',
    'x: a | x (common table expression): a',
  ],
  ['what is not in the project', 'select | from landing.nowhere n', 'n (landing.nowhere): '],
  ['a text that does not parse', 'select c.| frm from landing.call c where (', `c (landing.call): ${CALL}`],
  [
    'the statement around the place only',
    'select 1 from landing.berth; select | from landing.call; select 2 from landing.berth',
    `call (landing.call): ${CALL}`,
  ],
  [
    'options are no common table expressions',
    'create table core.x (a text) with (load = merge); select | from landing.call',
    `call (landing.call): ${CALL}`,
  ],
  ['nothing', 'select |', ''],
])('%s', (_, text, expected) => expect(at(text)).toBe(expected));
