import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { reviewNeeds } from './needs.js';

beforeAll(() => loadParser());

const table = (name: string, owner?: string, column = 'n') =>
  `create table ${name} (${column} integer) with (load = rebuild${owner === undefined ? '' : `, owner = '${owner}'`});\nselect 1 as ${column};\n`;
const FILES = {
  'layers.sql': 'create schema core;\ncreate schema mart;\n',
  'core/call.sql': table('core.call', 'harbour master'),
  'core/berth.sql': table('core.berth'),
  'mart/dues.sql':
    "create table mart.dues (n integer) with (load = rebuild, owner = 'dues office');\nselect n from core.call;\n",
};
type Files = Readonly<Record<string, string | null>>;
const project = (rules: string, changes: Files = {}) => {
  const files = { ...FILES, 'review.sql': rules, ...changes };
  return readProject(new Map(Object.entries(files).flatMap(([path, text]) => (text ? [[path, text] as const] : []))));
};
const needs = (before: ReturnType<typeof project>, after: ReturnType<typeof project>) => {
  const { approvals, owners } = reviewNeeds(before, after);
  return [approvals, [...owners].map(([owner, tables]) => `${owner}: ${tables.join(' ')}`)];
};

const ONE = "set review.approvals = '1';\n";
const OWNED = "set review.by_owner = 'true';\n";
const CALL: Files = { 'core/call.sql': table('core.call', 'harbour master', 'm') };
const BERTH: Files = { 'core/berth.sql': table('core.berth', undefined, 'm') };

describe('what a change needs', () => {
  test.each<[string, string, Files, unknown]>([
    ['nothing where no rule asks', '', CALL, [0, []]],
    ['nothing where nothing changes', ONE + OWNED, {}, [0, []]],
    ['approvals', ONE, CALL, [1, []]],
    ['also of a note or a check', ONE, { 'docs/core.call.md': 'Calls.' }, [1, []]],
    ['more in one layer', `${ONE}set review.approvals.core = '3';\n`, CALL, [3, []]],
    ['the greatest of the layers', `${ONE}set review.approvals.core = '0';\n`, CALL, [1, []]],
    ['a rule of a layer where nothing changed asks nothing', "set review.approvals.mart = '2';\n", CALL, [0, []]],
    ['of the owners of what changed, not of what reads it', OWNED, CALL, [0, ['harbour master: core.call']]],
    ['of nobody where there is no owner', OWNED, BERTH, [0, []]],
    ['of owners in one layer', "set review.by_owner.mart = 'true';\n", CALL, [0, []]],
    ['of owners but for one layer', `${OWNED}set review.by_owner.core = 'false';\n`, CALL, [0, []]],
    ['of the owner whose table is dropped', OWNED, { 'mart/dues.sql': null }, [0, ['dues office: mart.dues']]],
    ['of the owner of a note', OWNED, { 'docs/mart.dues.md': 'Dues.' }, [0, ['dues office: mart.dues']]],
    [
      'of the owner before and of the one after',
      OWNED,
      { 'core/call.sql': table('core.call', 'pilots') },
      [0, ['harbour master: core.call', 'pilots: core.call']],
    ],
    [
      'of the owner that is taken away',
      OWNED,
      { 'core/call.sql': table('core.call') },
      [0, ['harbour master: core.call']],
    ],
  ])('%s', (_, rules, changes, expected) => expect(needs(project(rules), project(rules, changes))).toEqual(expected));

  test.each<[string, string, string, Files, unknown]>([
    ['a rule that is taken away is asked', ONE, '', {}, [1, []]],
    ['a rule that is added is asked', '', "set review.approvals = '2';\n", {}, [2, []]],
    ['a rule of another layer, too', "set review.approvals.mart = '4';\n", '', {}, [4, []]],
    ['one that is lowered needs what it asked', "set review.approvals = '3';\n", ONE, CALL, [3, []]],
    [
      'owners who are asked no more are asked once more',
      OWNED,
      '',
      {},
      [0, ['harbour master: core.call', 'dues office: mart.dues']],
    ],
    ['in one layer', "set review.by_owner.mart = 'true';\n", '', {}, [0, ['dues office: mart.dues']]],
    [
      'by a layer’s own rule, too',
      OWNED,
      `${OWNED}set review.by_owner.mart = 'false';\n`,
      {
        'mart/dues.sql': table('mart.dues', 'dues office'),
      },
      [0, ['dues office: mart.dues']],
    ],
  ])('%s', (_, was, is, changes, expected) => expect(needs(project(was), project(is, changes))).toEqual(expected));
});

test.each<[string, string | undefined]>([
  ["set review.approvals = '2'; set review.by_owner.core = 'true';", undefined],
  ['set review.approvals = 2;', undefined],
  ["set review.approvals = 'many';", "review.approvals cannot be 'many'"],
  ["set review.approvals = '11';", "review.approvals cannot be '11'"],
  ["set review.by_owner = 'yes';", "review.by_owner cannot be 'yes'"],
  ["set review.aprovals = '1';", 'there is no rule review.aprovals'],
  ["set review.approvals.core.call = '1';", 'there is no rule review.approvals.core.call'],
  ["set review.approvals.cores = '1';", 'review.approvals.cores is for a layer that the project does not have'],
  ["set review.approvals = '1'; set review.approvals = '0';", 'review.approvals is set twice'],
  ["set param.x = '1';", 'this statement is not allowed here'],
  ['reset review.approvals;', 'this statement is not allowed here'],
  ['set review.approvals to default;', 'this statement is not allowed here'],
  ['select 1;', 'this statement is not allowed here'],
])('%s', (rules, message) =>
  expect(project(rules).diagnostics.map((d) => d.message)).toEqual(message === undefined ? [] : [message]),
);
