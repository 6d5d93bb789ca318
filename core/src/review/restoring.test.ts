import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { namesSince, restoredTables } from './restoring.js';

beforeAll(() => loadParser());

const SOURCE = (name: string, columns: string, options: string) =>
  `create foreign table landing.${name} (${columns}) server port_ops options (${options});\n`;
const INCREMENTAL = "intake 'incremental', watermark 'at'";
const versions = `valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')`;
const merged = (name: string, input: string) =>
  `create table core.${name} (k integer) with (load = merge, business_key = 'k');\nselect k from landing.${input};\n`;
const FILES = {
  'layers.sql': 'create schema landing;\ncreate schema core;\n',
  'sources/s.sql': [
    'create server port_ops foreign data wrapper postgres_fdw;\n',
    SOURCE('grows', 'k integer, v text, at timestamptz', INCREMENTAL),
    SOURCE('replaced', 'k integer', "table_name 'r'"),
  ].join(''),
  'reference/flag.csv': 'code\nX\n',
  'core/plain.sql': 'create table core.plain as select k from landing.replaced;\n',
  'core/grown.sql': merged('grown', 'grows'),
  'core/partly.sql': merged('partly', 'replaced'),
  'core/state.sql': `create table core.state (k integer, v text, ${versions}) with (load = history, business_key = 'k');\nselect k, v from landing.grows;\n`,
  'core/events.sql': `create table core.events (k integer, v text, ${versions}) with (load = history, business_key = 'k', effective_from = 'at');\nselect k, v, at from landing.grows;\n`,
};
type Files = Readonly<Record<string, string | null>>;
const project = (changes: Files = {}) =>
  readProject(
    new Map(Object.entries({ ...FILES, ...changes }).flatMap(([path, text]) => (text ? [[path, text] as const] : []))),
  );

/** The sources without a column, or without one of them. */
const sources = (...tables: readonly string[]): Files => ({
  'sources/s.sql': ['create server port_ops foreign data wrapper postgres_fdw;\n', ...tables].join(''),
});
const FEWER = sources(
  SOURCE('grows', 'k integer, at timestamptz', INCREMENTAL),
  SOURCE('replaced', 'k integer', "table_name 'r'"),
);
const GONE = sources(SOURCE('replaced', 'k integer', "table_name 'r'"));

describe('what becomes of a table that production gets back', () => {
  test.each<[string, string, boolean, Files, string]>([
    ['rebuilt, with a copy', 'core.plain', true, {}, 'comes back: '],
    ['rebuilt, without one', 'core.plain', false, {}, 'comes back: it is built from its query'],
    ['a reference table', 'reference.flag', false, {}, 'comes back: it is built from its query'],
    ['merged from what is read past a watermark', 'core.grown', true, {}, 'comes back: '],
    ['merged, without a copy', 'core.grown', false, {}, 'lost: no copy of its rows is left: it begins with none'],
    [
      'merged from what is replaced',
      'core.partly',
      true,
      {},
      'comes back in part: rows that landing.replaced had for a while since do not come again',
    ],
    ['a history of states', 'core.state', true, {}, 'comes back in part: versions that were opened since are lost'],
    ['a history of events', 'core.events', true, {}, 'comes back: '],
    ['a source that is there', 'landing.grows', true, {}, 'comes back: today’s rows, in the earlier columns'],
    [
      'a source that lost a column',
      'landing.grows',
      true,
      FEWER,
      'comes back in part: today’s rows, in which v is empty',
    ],
    ['one that is read as a whole', 'landing.replaced', true, GONE, 'comes back: today’s rows, in the earlier columns'],
    ['a source that has gone', 'landing.grows', true, GONE, 'comes back: '],
    [
      'one without a copy',
      'landing.grows',
      false,
      GONE,
      'comes back in part: no copy is left: it has what its source has today',
    ],
  ])('%s', (_, table, isCopied, since, said) => {
    const copies = new Set(isCopied ? [table] : []);
    const [found, ...more] = restoredTables(project(), project(since), { tables: new Set([table]), copies });
    expect([`${found!.mark}: ${found!.why}`, found!.table, more]).toEqual([said, table, []]);
  });
});

test('a table keeps its trace over any number of other names', () => {
  const named = (name: string, was?: string) =>
    project({
      'core/grown.sql': null,
      [`core/${name}.sql`]: `create table core.${name} (k integer) with (load = merge, business_key = 'k'${was === undefined ? '' : `, was = 'core.${was}'`});\nselect k from landing.grows;\n`,
    });
  const releases = [
    { before: named('a'), after: named('b', 'a') },
    { before: named('b', 'a'), after: named('b') },
    { before: named('b'), after: named('c', 'b') },
  ];
  expect([...namesSince(releases)]).toEqual([['core.a', 'core.c']]);
});
