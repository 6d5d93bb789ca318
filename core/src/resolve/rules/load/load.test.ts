import { beforeAll, describe, expect, test } from '@jest/globals';
import { fingerprints } from '../../../graph/fingerprint.js';
import { loadParser } from '../../../sql/parser.js';
import { readProject } from '../../read-project.js';

/** What each load policy needs, and what it cannot use, is said where the author wrote it. */
beforeAll(() => loadParser());

const SOURCES = `create server s foreign data wrapper postgres_fdw;
create foreign table landing.src (k text, x text, at timestamptz, d date) server s;
create foreign table landing.part (k text, at timestamptz) server s options (intake 'incremental', watermark 'at');`;
const DIM = `create table core.dim (id bigint options (role 'surrogate key') primary key, k text not null) with (load = merge, business_key = 'k'); select k from landing.src;`;

const AROUND: readonly (readonly [string, string])[] = [
  ['layers.sql', 'create schema landing; create schema staging; create schema core;'],
  ['sources/s.sql', SOURCES],
  ['staging/part.sql', 'select k, at from landing.part;'],
  ['core/dim.sql', DIM],
  ['core/plain.sql', 'create table core.plain (k text primary key); select k from landing.src;'],
];

/** The problems of one definition: the text at fault, what is wrong, what to do. */
function problems(definition: string): string[] {
  return readProject(new Map([...AROUND, ['core/t.sql', definition]]))
    .diagnostics.filter((d) => d.path === 'core/t.sql')
    .map((d) => `[${definition.slice(d.range.start, d.range.end)}] ${d.message}${d.hint ? ` (${d.hint})` : ''}`);
}
const table = (columns: string, options: string, query = 'select k, x from landing.src') =>
  `create table core.t (${columns}) with (${options});\n${query};`;
const VALID = "f timestamptz options (role 'valid from'), u timestamptz options (role 'valid to')";

describe('what a policy lacks', () => {
  test.each<[string, string, string[]]>([
    [
      'append',
      table('k text, x text', 'load = append'),
      ["[load] load = append needs a watermark (write watermark = 'column')"],
    ],
    [
      'look back without a key',
      table(
        'k text, at timestamptz',
        "load = append, watermark = 'at', look_back = '1 day'",
        'select k, at from landing.src',
      ),
      [
        "[look_back] look_back needs a business key to recognize rows that are already there (write business_key = 'column')",
      ],
    ],
    [
      'merge',
      table('k text, x text', 'load = merge'),
      ["[load] load = merge needs a business key (write business_key = 'column', or several with commas between)"],
    ],
    [
      'history',
      table('k text, x text', "load = history, business_key = 'k'"),
      [
        "[load] load = history needs a column with the role valid from (write options (role 'valid from') on it)",
        "[load] load = history needs a column with the role valid to (write options (role 'valid to') on it)",
      ],
    ],
    [
      'dated',
      table('k text, x text', 'load = dated'),
      ["[load] load = dated needs a column with the role as of (write options (role 'as of') on it)"],
    ],
    [
      'a surrogate key without what it stands for',
      table("i bigint options (role 'surrogate key'), k text, x text", 'load = rebuild'),
      ["[i] i needs a business key to number (write business_key = 'column')"],
    ],
    [
      'a mark for vanished rows',
      table('k text, x text', "load = merge, business_key = 'k', missing_rows = flag"),
      [
        "[missing_rows] missing_rows = flag needs a column with the role deleted flag (write options (role 'deleted flag') on a boolean column)",
      ],
    ],
    [
      'the whole truth',
      table(
        'k text, at timestamptz',
        "load = merge, business_key = 'k', missing_rows = delete",
        'select k, at from staging.part',
      ),
      [
        '[missing_rows] missing_rows = delete needs all rows, but landing.part is loaded incrementally (use missing_rows = keep, or load the source in full)',
      ],
    ],
    [
      'whose value was before',
      table(`k text, x text, y text options (on_change 'previous'), ${VALID}`, "load = history, business_key = 'k'"),
      [
        "[y] y does not say whose previous value it holds (write previous_of 'column', a column that is versioned or overwritten)",
      ],
    ],
  ])('%s', (_, definition, expected) => expect(problems(definition)).toEqual(expected));
});

describe('what a policy cannot use', () => {
  test.each<[string, string, string[]]>([
    [
      'an option of another',
      table('k text, x text', "load = merge, business_key = 'k', watermark = 'x'"),
      ['[watermark] load = merge does not support option watermark (it applies to append)'],
    ],
    [
      'a role of another',
      table("k text, x text, d date options (role 'valid from')", 'load = rebuild'),
      ['[d] load = rebuild does not support the role valid from (it applies to history)'],
    ],
    [
      'a way of missing of another',
      table(`k text, x text, ${VALID}`, "load = history, business_key = 'k', missing_rows = delete"),
      ['[missing_rows] load = history does not support missing_rows = delete (use keep, close)'],
    ],
    [
      'writing anew what only the table still has',
      table('k text, x text', "load = merge, business_key = 'k', drift = add, shape = rewrite"),
      [
        '[shape] a table with drift = add is never rewritten (columns that exist only in the table would be lost; remove shape)',
      ],
    ],
    [
      'writing anew when versions were written',
      table(
        `k text, ${VALID}, l timestamptz options (role 'loaded at')`,
        "load = history, business_key = 'k', effective_from = 'at', shape = rewrite",
        'select k, at from staging.part',
      ),
      [
        '[shape] a history from events that keeps loaded at is never rewritten (unchanged versions keep their l; remove shape)',
      ],
    ],
    [
      'a filled column that the query returns',
      table(`k text, x text, ${VALID}`, "load = history, business_key = 'k'", 'select k, x, at as f from landing.src'),
      ['[f] f is filled by the load, and the query returns it too (remove it from the query)'],
    ],
    [
      'an unknown key',
      table('k text, x text', "load = merge, business_key = 'kk'"),
      ['[business_key] option business_key: core.t has no column kk of the query (available: k, x)'],
    ],
    [
      'an unknown event time',
      table(
        `k text, x text, ${VALID}`,
        "load = history, business_key = 'k', effective_from = 'att'",
        'select k, x, at from landing.src',
      ),
      [
        '[effective_from] option effective_from: the query returns no column att (did you mean at?)',
        '[select] the contract does not declare column at, which the query returns (declare it, or remove it from the query)',
      ],
    ],
    [
      'a condition over an unknown column',
      table('k text, x text', "load = merge, business_key = 'k', update_when = 'q.xx > t.x or q.xx is null'"),
      ['[update_when] option update_when: there is no q.xx (write q.column or t.column)'],
    ],
    [
      'two conditions',
      table('k text, x text', "load = merge, business_key = 'k', delete_when = 'q.x = ''1''; drop table x'"),
      [
        '[delete_when] option delete_when: syntax error at or near ";" (write one condition over q, the query’s row, and t, the table’s)',
      ],
    ],
  ])('%s', (_, definition, expected) => expect(problems(definition)).toEqual(expected));
});

describe('look-ups', () => {
  const fact = (column: string, query = 'select k, x from landing.src') =>
    table(`k text, ${column}`, "load = merge, business_key = 'k'", query);
  test.each<[string, string, string[]]>([
    [
      'a sound one, by a column that the contract lacks',
      fact("i bigint options (looked_up_by 'x') not null references core.dim (id)"),
      [],
    ],
    [
      'one without a reference',
      fact("i bigint options (looked_up_by 'x')"),
      ['[i] i: looked_up_by does not say in which table (write references layer.table (key) on the column)'],
    ],
    [
      'a table without keys',
      fact("i text options (looked_up_by 'x') references core.plain (k)"),
      ["[i] i: core.plain has no surrogate key (give one of its columns options (role 'surrogate key'))"],
    ],
    [
      'too many columns',
      fact("i bigint options (looked_up_by 'x, k') references core.dim (id)"),
      ['[i] i: looked_up_by names 2 columns, the business key of core.dim has 1 (name them in the order of k)'],
    ],
    [
      'a column that the query lacks',
      fact("i bigint options (looked_up_by 'y') references core.dim (id)", 'select k from landing.src'),
      ['[i] i: the query returns no column y (add it to the query; the contract need not have it)'],
    ],
  ])('%s', (_, definition, expected) => expect(problems(definition)).toEqual(expected));
});

test('a table in which keys are looked up is read by those that look them up, and knows it', () => {
  const read = readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema core;'],
      ['sources/s.sql', SOURCES],
      ['core/dim.sql', DIM],
      [
        'core/t.sql',
        table(
          "k text, i bigint options (looked_up_by 'x') not null references core.dim (id)",
          "load = merge, business_key = 'k'",
        ),
      ],
    ]),
  );
  expect(read.diagnostics).toEqual([]);
  expect(read.reads.get('core.t')).toEqual(['landing.src', 'core.dim']);
  expect(read.order.indexOf('core.dim')).toBeLessThan(read.order.indexOf('core.t'));
});

test('a table in which placeholders are to be made is reloaded: what is remembered beside it changes', () => {
  const prints = (missing: string) => {
    const fact = table(
      `k text not null, d bigint options (looked_up_by 'k', missing '${missing}') references core.dim (id)`,
      "load = merge, business_key = 'k'",
      'select k from landing.src',
    );
    return fingerprints(readProject(new Map([...AROUND, ['core/t.sql', fact]]))).get('core.dim');
  };
  expect(prints('unknown')).toBe(prints('stop'));
  expect(prints('infer')).not.toBe(prints('stop'));
});
