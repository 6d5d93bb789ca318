import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import type { Definition } from '../model/project.js';
import { projectOf } from '../testing.js';
import { InputTrace } from './begin.js';
import { madeUp } from './made-up.js';

beforeAll(() => loadParser());

const FILES = {
  'core/fact_call.sql': null,
  'core/dim_berth.sql': `create table core.dim_berth (berth_key bigint options (role 'surrogate key') primary key, berth_code text not null, length_m numeric(6,1),
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'berth_code');
select berth_code, length_m from staging.berth;`,
  'core/fact.sql': `create table core.fact (call_no text, code text, tonnage numeric(12,2), berth_key bigint options (looked_up_by 'code') references core.dim_berth (berth_key));
select c.call_no, c.berth_code as code, c.tonnage from staging.call as c where tonnage > 0;`,
};

/** What is asked of each input in turn, `table (columns) where`; rows are handed back where a case has some. */
function asked(
  query: string,
  row: Readonly<Record<string, string | null>>,
  found: Readonly<Record<string, object[]>> = {},
) {
  const project = projectOf({ ...FILES, 'mart/t.sql': query });
  const trace = new InputTrace(project, project.tables.get('mart.t') as Definition, [new Map(Object.entries(row))]);
  const all: string[] = [];
  for (let next = trace.next(); next; next = trace.next()) {
    all.push(`${next.table} (${next.columns.join(', ')})${next.where === undefined ? '' : ` where ${next.where}`}`);
    trace.found(
      next.table,
      (found[next.table] ?? []).map((r) => new Map(Object.entries(r))),
    );
  }
  return all;
}

describe('input rows of a chosen row', () => {
  test.each<[string, string, Record<string, string | null>, Record<string, object[]>, string[]]>([
    [
      'by the columns that are handed on, with the columns that the query uses',
      'select call_no, tonnage + 1 as more from staging.call',
      { call_no: 'C-1', more: '3' },
      {},
      [`staging.call (call_no, tonnage) where "call_no" in (cast('C-1' as text))`],
    ],
    [
      'null is looked for as null',
      'select call_no, tonnage from staging.call',
      { call_no: 'C-1', tonnage: null },
      {},
      [`staging.call (call_no, tonnage) where "call_no" in (cast('C-1' as text)) and "tonnage" is null`],
    ],
    [
      'a join by using leads to the other side by what was found',
      'select call_no, length_m from staging.call join staging.berth using (berth_code)',
      { call_no: 'C-1', length_m: '7.0' },
      { 'staging.call': [{ call_no: 'C-1', berth_code: 'N1' }] },
      [
        `staging.call (call_no, berth_code) where "call_no" in (cast('C-1' as text))`,
        `staging.berth (berth_code, length_m) where "berth_code" in (cast('N1' as text)) and "length_m" in (cast('7.0' as numeric(6,1)))`,
      ],
    ],
    [
      'a condition with aliases, in a query of a query',
      `with calls as (select c.call_no, b.length_m from staging.call c, staging.berth b where b.berth_code = c.berth_code)
       select call_no, sum(length_m) as metres from calls group by call_no`,
      { call_no: "O'Neil", metres: '7' },
      { 'staging.call': [{ berth_code: 'N1' }, { berth_code: 'N2' }] },
      [
        `staging.call (call_no, berth_code) where "call_no" in (cast('O''Neil' as text))`,
        `staging.berth (berth_code, length_m) where "berth_code" in (cast('N1' as text), cast('N2' as text))`,
      ],
    ],
    [
      'where nothing leads there is no condition',
      'select count(*) as n from staging.call',
      { n: '4' },
      {},
      ['staging.call (call_no, berth_code, tonnage)'],
    ],
  ])('%s', (_, query, row, found, expected) => {
    expect(asked(query, row, found)).toEqual(expected);
  });

  test('members are those that the row looks up; the result has what the query gives, and keys', () => {
    const project = projectOf(FILES);
    const row = new Map([
      ['call_no', 'C-1'],
      ['code', 'N1'],
    ]);
    const trace = new InputTrace(project, project.tables.get('core.fact') as Definition, [row]);
    expect(trace.members()).toEqual([
      {
        table: 'core.dim_berth',
        kind: 'member',
        columns: ['berth_code', 'valid_from', 'valid_to'],
        where: `("berth_code" in (cast('N1' as text)))`,
      },
    ]);
    expect(trace.resultColumns()).toEqual(['call_no', 'code', 'tonnage', 'berth_key']);
  });
});

describe('made-up values', () => {
  test.each([
    'smallint',
    'integer',
    'bigint',
    'numeric(6,2)',
    'boolean',
    'date',
    'timestamptz',
    'uuid',
    'text',
    'varchar(9)',
  ])('of %s are the same for the same value, and others with another secret', (type) => {
    const made = madeUp('Anna', type, 'a');
    expect(made).toBe(madeUp('Anna', type, 'a'));
    expect(made).not.toContain('Anna');
    const others = ['b', 'c', 'd', 'e', 'f'].map((secret) => madeUp('Anna', type, secret));
    expect(new Set([made, ...others]).size).toBeGreaterThan(1);
    if (type === 'varchar(9)') expect(made!.length).toBeLessThanOrEqual(9);
  });
  test('null stays null; what cannot be made up is null', () => {
    expect([madeUp(null, 'text', 'a'), madeUp('{"a":1}', 'jsonb', 'a')]).toEqual([null, null]);
  });
});
