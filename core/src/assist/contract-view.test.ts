import { beforeAll, describe, expect, test } from '@jest/globals';
import type { Definition } from '../model/project.js';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { contractView } from './contract-view.js';

beforeAll(loadParser);

const viewOf = (sql: string) => {
  const project = projectOf({ 'core/t.sql': sql });
  return contractView(project, project.tables.get('core.t') as Definition);
};

test('a contract as a form shows it', () =>
  expect(
    viewOf(`create table core.t (
  id bigint options (role 'surrogate key') primary key,
  call_no text not null unique,
  tonnage numeric(12,2) default 0 check (tonnage >= 0), -- tonnes
  constraint known foreign key (call_no) references core.fact_call (call_no)
) with (load = merge, business_key = 'call_no');
comment on table core.t is 'Calls.';
comment on column core.t.tonnage is 'In tonnes.';
select call_no, tonnage from landing.call;`),
  ).toMatchInlineSnapshot(`
   {
     "columns": [
       {
         "filled": true,
         "name": "id",
         "notNull": true,
         "options": {
           "role": "surrogate key",
         },
         "type": "bigint",
       },
       {
         "filled": false,
         "name": "call_no",
         "notNull": true,
         "options": {},
         "type": "text",
       },
       {
         "comment": "In tonnes.",
         "filled": false,
         "name": "tonnage",
         "notNull": false,
         "options": {},
         "type": "numeric(12,2)",
       },
     ],
     "comment": "Calls.",
     "constraints": [
       {
         "columns": [
           "id",
         ],
         "kind": "primary key",
         "name": "t_pkey",
         "text": "primary key",
       },
       {
         "columns": [
           "call_no",
         ],
         "kind": "not null",
         "name": "t_call_no_not_null",
         "text": "not null",
       },
       {
         "columns": [
           "call_no",
         ],
         "kind": "unique",
         "name": "t_call_no_key",
         "text": "unique",
       },
       {
         "columns": [
           "tonnage",
         ],
         "kind": "check",
         "name": "t_tonnage_check",
         "text": "check (tonnage >= 0)",
       },
       {
         "columns": [
           "call_no",
         ],
         "kind": "references",
         "name": "known",
         "text": "constraint known foreign key (call_no)",
       },
     ],
     "declared": true,
     "differences": {
       "extra": [],
       "missing": [],
       "types": [],
     },
     "options": {
       "business_key": "call_no",
       "load": "merge",
     },
     "policy": "merge",
   }
  `));

describe('a contract held against its query', () => {
  test.each<[string, string, object]>([
    [
      'none yet',
      'select call_no, tonnage from landing.call',
      {
        missing: [
          { name: 'call_no', type: 'text' },
          { name: 'tonnage', type: 'numeric(12,2)' },
        ],
        extra: [],
        types: [],
      },
    ],
    [
      'the same',
      'create table core.t (call_no text); select call_no from landing.call',
      { missing: [], extra: [], types: [] },
    ],
    [
      'a column more, one less',
      'create table core.t (call_no text, gone text); select call_no, tonnage from landing.call',
      { missing: [{ name: 'tonnage', type: 'numeric(12,2)' }], extra: ['gone'], types: [] },
    ],
    [
      'another type',
      'create table core.t (tonnage integer); select tonnage from landing.call',
      { missing: [], extra: [], types: [{ name: 'tonnage', declared: 'integer', ofQuery: 'numeric(12,2)' }] },
    ],
    [
      'an unknown type',
      'create table core.t (call_no text); select call_no, functions.unheard(call_no) as x from landing.call',
      { missing: [{ name: 'x' }], extra: [], types: [] },
    ],
    [
      'a column that the load fills',
      "create table core.t (call_no text, at timestamptz options (role 'loaded at')) with (load = merge, business_key = 'call_no'); select call_no from landing.call",
      { missing: [], extra: [], types: [] },
    ],
    [
      'a column that helps the load',
      "create table core.t (call_no text, f timestamptz options (role 'valid from'), u timestamptz options (role 'valid to')) with (load = history, business_key = 'call_no', effective_from = 'arrived_at'); select call_no, arrived_at from landing.call",
      { missing: [], extra: [], types: [] },
    ],
    [
      'columns that cannot be told',
      'create table core.t (call_no text); select * from landing.nowhere',
      { missing: [], extra: [], types: [] },
    ],
    [
      'a broken query',
      'create table core.t (call_no text); select call_no frm x from',
      { missing: [], extra: [], types: [] },
    ],
  ])('%s', (_, sql, differences) => expect(viewOf(sql).differences).toEqual(differences));
});
