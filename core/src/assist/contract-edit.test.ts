import { beforeAll, describe, expect, test } from '@jest/globals';
import { indexFile } from '../index/index-file.js';
import { loadParser } from '../sql/parser.js';
import { editContract, type ContractEdit } from './contract-edit.js';

beforeAll(() => loadParser());

const TEXT = `-- Ships, as they are.
set work_mem = '64MB';
create table core.ship (
  hull_no    text        primary key,
  ship_name  text        options (on_change 'overwrite', unknown 'none') not null, -- as painted
  flag_code  text        constraint flag_known references reference.flag (flag_code),
  tonnage    numeric(10,1)
    check (tonnage > 0) /* tons, not tonnes */,
  unique (ship_name, flag_code)
) with (load = history, business_key = 'hull_no', owner = 'fleet desk');
comment on table core.ship is 'Ships.';
comment on column core.ship.hull_no is 'Welded on.';

select hull_no, ship_name, flag_code, tonnage from staging.ship;
create index on core.ship (flag_code);
`;
const PATH = 'core/ship.sql';
const edited = (...edits: ContractEdit[]) => editContract(PATH, TEXT, edits);

/** Lines that differ, as they were and as they are. */
function difference(after: string): string[] {
  const [a, b] = [TEXT.split('\n'), after.split('\n')];
  return [
    ...a.filter((l) => !b.includes(l)).map((l) => `- ${l}`),
    ...b.filter((l) => !a.includes(l)).map((l) => `+ ${l}`),
  ];
}

describe('an edit changes its place and nothing else', () => {
  test.each<[string, ContractEdit, string[]]>([
    [
      'a type',
      { kind: 'type', column: 'tonnage', type: 'numeric(12,2)' },
      ['-   tonnage    numeric(10,1)', '+   tonnage    numeric(12,2)'],
    ],
    [
      'not null on',
      { kind: 'not null', column: 'flag_code', on: true },
      [
        '-   flag_code  text        constraint flag_known references reference.flag (flag_code),',
        '+   flag_code  text        constraint flag_known references reference.flag (flag_code) not null,',
      ],
    ],
    [
      'not null off',
      { kind: 'not null', column: 'ship_name', on: false },
      [
        "-   ship_name  text        options (on_change 'overwrite', unknown 'none') not null, -- as painted",
        "+   ship_name  text        options (on_change 'overwrite', unknown 'none'), -- as painted",
      ],
    ],
    [
      'the value of an option',
      { kind: 'column option', column: 'ship_name', option: 'on_change', value: 'version' },
      [
        "-   ship_name  text        options (on_change 'overwrite', unknown 'none') not null, -- as painted",
        "+   ship_name  text        options (on_change 'version', unknown 'none') not null, -- as painted",
      ],
    ],
    [
      'an option less',
      { kind: 'column option', column: 'ship_name', option: 'unknown', value: '' },
      [
        "-   ship_name  text        options (on_change 'overwrite', unknown 'none') not null, -- as painted",
        "+   ship_name  text        options (on_change 'overwrite') not null, -- as painted",
      ],
    ],
    [
      'a first option',
      { kind: 'column option', column: 'tonnage', option: 'role', value: 'measure' },
      ['-   tonnage    numeric(10,1)', "+   tonnage    numeric(10,1) options (role 'measure')"],
    ],
    [
      'the value of a table option',
      { kind: 'table option', option: 'load', value: 'merge' },
      [
        "- ) with (load = history, business_key = 'hull_no', owner = 'fleet desk');",
        "+ ) with (load = merge, business_key = 'hull_no', owner = 'fleet desk');",
      ],
    ],
    [
      'a table option more, with a quote in it',
      { kind: 'table option', option: 'update_when', value: "q.flag_code <> 'X'" },
      [
        "- ) with (load = history, business_key = 'hull_no', owner = 'fleet desk');",
        "+ ) with (load = history, business_key = 'hull_no', owner = 'fleet desk', update_when = 'q.flag_code <> ''X''');",
      ],
    ],
    [
      'a table option less',
      { kind: 'table option', option: 'owner', value: '' },
      [
        "- ) with (load = history, business_key = 'hull_no', owner = 'fleet desk');",
        "+ ) with (load = history, business_key = 'hull_no');",
      ],
    ],
    [
      'the comment of the table',
      { kind: 'comment', text: "The harbour's ships." },
      ["- comment on table core.ship is 'Ships.';", "+ comment on table core.ship is 'The harbour''s ships.';"],
    ],
    [
      'a new comment of a column',
      { kind: 'comment', column: 'tonnage', text: 'Measured.' },
      ["+ comment on column core.ship.tonnage is 'Measured.';"],
    ],
    [
      'a comment less',
      { kind: 'comment', column: 'hull_no', text: '' },
      ["- comment on column core.ship.hull_no is 'Welded on.';"],
    ],
    [
      'a column more',
      { kind: 'add column', name: 'built_on', type: 'date' },
      [
        '-     check (tonnage > 0) /* tons, not tonnes */,',
        '+     check (tonnage > 0),',
        '+   built_on   date /* tons, not tonnes */,',
      ],
    ],
    [
      'a column less',
      { kind: 'drop column', column: 'flag_code' },
      ['-   flag_code  text        constraint flag_known references reference.flag (flag_code),'],
    ],
    [
      'a column with its comment less',
      { kind: 'drop column', column: 'hull_no' },
      ['-   hull_no    text        primary key,', "- comment on column core.ship.hull_no is 'Welded on.';"],
    ],
    [
      'a check more',
      { kind: 'add constraint', column: 'hull_no', text: "check (hull_no like 'KR-%')" },
      [
        '-   hull_no    text        primary key,',
        "+   hull_no    text        primary key check (hull_no like 'KR-%'),",
      ],
    ],
    [
      'a constraint of the table more',
      { kind: 'add constraint', text: 'unique (tonnage)' },
      ['-   unique (ship_name, flag_code)', '+   unique (ship_name, flag_code),', '+   unique (tonnage)'],
    ],
    [
      'a named constraint less',
      { kind: 'drop constraint', name: 'flag_known' },
      [
        '-   flag_code  text        constraint flag_known references reference.flag (flag_code),',
        '+   flag_code  text,',
      ],
    ],
    [
      'a constraint of the table less',
      { kind: 'drop constraint', name: 'ship_ship_name_flag_code_key' },
      [
        '-     check (tonnage > 0) /* tons, not tonnes */,',
        '-   unique (ship_name, flag_code)',
        '+     check (tonnage > 0)',
      ],
    ],
  ])('%s', (_, edit, expected) => {
    const after = edited(edit);
    expect(difference(after)).toEqual(expected);
    expect(indexFile(PATH, after).diagnostics).toEqual([]);
  });

  test('several edits, one after the other', () => {
    const after = edited(
      { kind: 'drop column', column: 'tonnage' },
      { kind: 'add column', name: 'tons', type: 'bigint' },
      { kind: 'not null', column: 'tons', on: true },
    );
    expect(after).toContain('  tons       bigint not null,\n');
    expect(after).not.toContain('tonnage    ');
  });

  test('an edit and its opposite leave the text as it was', () => {
    expect(
      edited({ kind: 'not null', column: 'flag_code', on: true }, { kind: 'not null', column: 'flag_code', on: false }),
    ).toBe(TEXT);
    expect(
      edited(
        { kind: 'column option', column: 'tonnage', option: 'role', value: 'measure' },
        { kind: 'column option', column: 'tonnage', option: 'role', value: '' },
      ),
    ).toBe(TEXT);
    expect(
      edited({ kind: 'table option', option: 'tags', value: 'a' }, { kind: 'table option', option: 'tags', value: '' }),
    ).toBe(TEXT);
    expect(
      edited({ kind: 'comment', column: 'tonnage', text: 'x' }, { kind: 'comment', column: 'tonnage', text: '' }),
    ).toBe(TEXT);
    expect(
      edited(
        { kind: 'add constraint', column: 'tonnage', text: 'constraint big check (tonnage < 9)' },
        { kind: 'drop constraint', name: 'big' },
      ),
    ).toBe(TEXT);
  });
});

describe('a contract from the query', () => {
  const columns = [
    { name: 'hull_no', type: 'text' },
    { name: 'order', type: 'numeric(10,1)' },
  ];
  test.each([
    [
      'a bare query is a view',
      '-- Why.\nselect hull_no, 1 as "order" from staging.ship;',
      '-- Why.\ncreate table core.ship (\n  hull_no text,\n  "order" numeric(10,1)\n) with (load = view);\n\nselect hull_no, 1 as "order" from staging.ship;',
    ],
    [
      'a view said aloud',
      'create view core.ship as\nselect 1 as a;',
      'create table core.ship (\n  hull_no text,\n  "order" numeric(10,1)\n) with (load = view);\n\nselect 1 as a;',
    ],
    [
      'a table',
      'create table core.ship as select 1 as a;\nanalyze core.ship;',
      'create table core.ship (\n  hull_no text,\n  "order" numeric(10,1)\n);\n\nselect 1 as a;\nanalyze core.ship;',
    ],
  ])('%s', (_, before, after) => expect(editContract(PATH, before, [{ kind: 'write', columns }])).toBe(after));
});

test.each<[string, string, ContractEdit, string]>([
  ['no such column', TEXT, { kind: 'type', column: 'nope', type: 'text' }, 'the contract has no column nope'],
  ['no such constraint', TEXT, { kind: 'drop constraint', name: 'nope' }, 'the contract has no constraint nope'],
  [
    'a column twice',
    TEXT,
    { kind: 'add column', name: 'tonnage', type: 'text' },
    'the contract has a column tonnage already',
  ],
  [
    'a key may not be null',
    TEXT,
    { kind: 'not null', column: 'hull_no', on: false },
    'hull_no is part of the key, which is never null',
  ],
  ['a second contract', TEXT, { kind: 'write', columns: [] }, 'core.ship has a contract already'],
  ['no contract', 'select 1 as a;', { kind: 'type', column: 'a', type: 'text' }, 'core.ship has no contract yet'],
  [
    'a broken text',
    'create table core.ship (',
    { kind: 'type', column: 'a', type: 'text' },
    'the text has a syntax error: syntax error at end of input',
  ],
])('%s is reported', (_, text, edit, message) => expect(() => editContract(PATH, text, [edit])).toThrow(message));
