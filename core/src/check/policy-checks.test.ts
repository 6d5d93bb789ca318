import { beforeAll, describe, expect, test } from '@jest/globals';
import type { Definition } from '../model/project.js';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { policyChecks } from './policy-checks.js';

beforeAll(loadParser);

const KEY = "call_key bigint options (role 'surrogate key') primary key";
const VALID =
  "valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')";
const DIMENSION = `create table core.dim_berth (berth_key bigint options (role 'surrogate key') primary key, berth_code text not null) with (load = merge, business_key = 'berth_code');
select berth_code from staging.berth;`;

/** The checks that come with a table, as `name: title (columns)`. */
function checksOf(
  contract: string,
  query = 'select call_no, berth_code, tonnage, arrived_at from landing.call',
): string[] {
  const project = projectOf({
    'core/dim_berth.sql': DIMENSION,
    'core/t.sql': `create table core.t (${contract};\n${query};`,
  });
  const wrong = project.diagnostics.filter((d) => d.path === 'core/t.sql' && d.severity === 'error');
  if (wrong.length) throw new Error(wrong.map((d) => d.message).join('; '));
  return policyChecks(project, project.tables.get('core.t') as Definition).map(
    (c) => `${c.name}: ${c.title} (${c.columns.join(', ')})`,
  );
}

const PLAIN = 'call_no text not null, berth_code text, tonnage numeric(12,2), arrived_at timestamptz';

describe('checks that come with a load', () => {
  test.each<[string, string, string[]]>([
    ['none of a plain rebuilt table', `${PLAIN})`, []],
    ['none of a view', `${PLAIN}) with (load = view)`, []],
    [
      'of a rebuilt table with keys',
      `${KEY}, ${PLAIN}) with (business_key = 'call_no')`,
      ['key_map_is_complete: each row has its number (call_no)'],
    ],
    ['of hashed keys: none of numbers', `${KEY}, ${PLAIN}) with (business_key = 'call_no', key_method = hash)`, []],
    ['none of an append without a key', `${PLAIN}) with (load = append, watermark = 'arrived_at')`, []],
    [
      'of an append with one',
      `${PLAIN}) with (load = append, watermark = 'arrived_at', business_key = 'call_no')`,
      ['keys_are_known: the query returns no rows without call_no (call_no)'],
    ],
    [
      'of a merge',
      `${PLAIN}) with (load = merge, business_key = 'call_no, berth_code')`,
      [
        'keys_are_known: the query returns no rows without call_no, berth_code (call_no, berth_code)',
        'one_row_a_key: the query returns one row per call_no, berth_code (call_no, berth_code)',
      ],
    ],
    [
      'of a history by state, numbered',
      `${KEY}, ${PLAIN}, ${VALID}) with (load = history, business_key = 'call_no')`,
      [
        'keys_are_known: the query returns no rows without call_no (call_no)',
        'one_row_a_key: the query returns one row per call_no (call_no)',
        'versions_do_not_overlap: no two versions of a call_no overlap, and at most one is open (call_no)',
        'key_map_is_complete: each row has its number (call_no)',
      ],
    ],
    [
      'of a history from events, with a durable key',
      `member bigint options (role 'durable key'), call_no text not null, berth_code text, tonnage numeric(12,2), ${VALID}) with (load = history, business_key = 'call_no', effective_from = 'arrived_at')`,
      [
        'keys_are_known: the query returns no rows without call_no (call_no)',
        'one_event_an_instant: events of a call_no agree on each instant (call_no)',
        'versions_do_not_overlap: no two versions of a call_no overlap, and at most one is open (call_no)',
        'key_map_is_complete: each row has its number (call_no)',
      ],
    ],
    [
      'none of a dated table but its numbers',
      `${KEY}, ${PLAIN.replace('arrived_at timestamptz', "arrived_at timestamptz options (role 'as of')")}) with (load = dated, business_key = 'call_no')`,
      ['key_map_is_complete: each row has its number (call_no)'],
    ],
    [
      'of look-ups',
      `${PLAIN}, berth_key bigint options (looked_up_by 'berth_code') references core.dim_berth (berth_key))`,
      ['look_ups_keep_rows: key look-ups neither lose nor multiply rows (berth_key)'],
    ],
  ])('%s', (_, contract, expected) => expect(checksOf(contract)).toEqual(expected));
});
