import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { standInReason } from './stand-ins.js';

beforeAll(loadParser);

const NUMBERS = 'loads assign the numbers: a hash of the business key is shown instead';
const VERSIONS = 'versions come from past loads: the query’s current values are shown for all time';
const STAMP = 'a load says when and by what it was written';

/** A table with a column of each role that its policy knows. */
const files = (load: string, more = '') => ({
  'core/t.sql': `create table core.t (
  t_key bigint options (role 'surrogate key') primary key, call_no text not null, tonnage numeric(12,2)${more}, at_load timestamptz options (role 'loaded at'), by_run text options (role 'run id')
) with (business_key = 'call_no', ${load});
select call_no, tonnage${load.includes('effective_from') ? ', arrived_at' : ''}${more.includes('first_seen') ? ', tonnage as first_seen' : ''} from landing.call;`,
  'mart/reads.sql': 'select * from core.t;',
});
const VALID =
  ", valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag'), n integer options (role 'version number')";
const HISTORY = `${VALID}, member bigint options (role 'durable key'), first_seen numeric(12,2) options (on_change 'keep'), was numeric(12,2) options (on_change 'previous', previous_of 'tonnage')`;

/** Why each column of a table that is not built holds a stand-in; columns that do not are left out. */
function reasons(
  of: Readonly<Record<string, string>>,
  isThere: (table: string) => boolean = () => false,
): Record<string, string> {
  const project = projectOf(of);
  const wrong = project.diagnostics.filter((d) => d.severity === 'error');
  if (wrong.length) throw new Error(wrong.map((d) => `${d.path}: ${d.message}`).join('; '));
  const columns = project.columns.get('mart.reads') ?? [];
  const found = columns.map(
    (c) => [c.name, standInReason(project, c.origins, isThere)?.replace('core.t is not built: ', '')] as const,
  );
  return Object.fromEntries(found.filter((entry): entry is [string, string] => entry[1] !== undefined));
}

describe('why a column of a table that is not built holds what stands for its value', () => {
  test.each<[string, Readonly<Record<string, string>>, Readonly<Record<string, string>>]>([
    ['a merge', files('load = merge'), { t_key: NUMBERS, at_load: STAMP, by_run: STAMP }],
    ['a merge with hashes', files('load = merge, key_method = hash'), { at_load: STAMP, by_run: STAMP }],
    [
      'a merge that flags',
      files('load = merge, missing_rows = flag, empty = allow', ", gone boolean options (role 'deleted flag')"),
      {
        t_key: NUMBERS,
        gone: 'which rows have gone is known from past loads: false is shown instead',
        at_load: STAMP,
        by_run: STAMP,
      },
    ],
    [
      'a history by state',
      files('load = history', HISTORY),
      {
        t_key: NUMBERS,
        valid_from: VERSIONS,
        valid_to: VERSIONS,
        is_current: VERSIONS,
        n: VERSIONS,
        member: NUMBERS,
        first_seen: 'the first value is known from past loads: the query’s current value is shown instead',
        was: 'the previous value is known from past loads: null is shown instead',
        at_load: STAMP,
        by_run: STAMP,
      },
    ],
    [
      'a history from events: its query says from when to when',
      files("load = history, effective_from = 'arrived_at'", HISTORY),
      {
        t_key: NUMBERS,
        member: NUMBERS,
        was: 'the previous value is known from past loads: null is shown instead',
        at_load: STAMP,
        by_run: STAMP,
      },
    ],
  ])('%s', (_, of, expected) => expect(reasons(of)).toEqual(expected));

  test('nothing of one that is built', () => expect(reasons(files('load = merge'), (t) => t === 'core.t')).toEqual({}));

  test('a key that is looked up in a dimension that is not built', () => {
    const of = {
      'core/dim.sql': `create table core.dim (dim_key bigint options (role 'surrogate key') primary key, berth_code text not null) with (load = merge, business_key = 'berth_code');\nselect berth_code from staging.berth;`,
      'core/t.sql': `create table core.t (call_no text, dim_key bigint options (looked_up_by 'berth_code') references core.dim (dim_key));\nselect call_no, berth_code from landing.call;`,
      'mart/reads.sql': 'select * from core.t;',
    };
    const reason = 'core.dim is not built, and loads assign the numbers: a hash of the business key is shown instead';
    expect(reasons(of)).toEqual({ dim_key: reason });
    expect(reasons(of, (t) => t === 'core.dim')).toEqual({});
  });
});
