import { beforeAll, expect, test } from '@jest/globals';
import { changedChecks } from '../check/index.js';
import { freedColumns, impactOf } from '../lineage/index.js';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { compareProjects, losses, migrations, restoredTables, wrongFormerNames } from './index.js';

beforeAll(() => loadParser());

const versions = `valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')`;
const POLICIES: Readonly<Record<string, string>> = {
  view: '',
  rebuild: `create table core.t (k integer) with (load = rebuild);\n`,
  append: `create table core.t (k integer, at timestamptz not null) with (load = append, watermark = 'at');\n`,
  merge: `create table core.t (k integer) with (load = merge, business_key = 'k');\n`,
  history: `create table core.t (k integer, v text, ${versions}) with (load = history, business_key = 'k');\n`,
  events: `create table core.t (k integer, v text, ${versions}) with (load = history, business_key = 'k', effective_from = 'at');\n`,
  dated: `create table core.t (k integer, day date options (role 'as of') not null) with (load = dated);\n`,
};
const project = (text: string) =>
  readProject(
    new Map([
      ['layers.sql', 'create schema staging;\ncreate schema core;\n'],
      ['staging/s.sql', "select 1 as k, 'a' as v, now() as at, date '2026-01-01' as day;\n"],
      ['core/t.sql', text],
      ['core/reads.sql', 'create table core.reads as select k from core.t;\n'],
    ]),
  );
const QUERY = 'select k, v, at, day from staging.s;\n';

// While somebody types, a definition has a contract and no query that can be read: its review is open beside.
test.each(
  Object.entries(POLICIES).flatMap(([policy, contract]) =>
    ['select k as a as b from staging.s;\n', 'select', '', '(', "select 'open", 'insert into x values (1);\n'].map(
      (broken): [string, string, string] => [policy, broken, contract],
    ),
  ),
)('a definition of policy %s whose query is %p is compared all the same, either way', (_, broken, contract) => {
  const [whole, half] = [project(contract + QUERY), project(contract + broken)];
  for (const [before, after] of [
    [whole, half],
    [half, whole],
  ] as const) {
    const change = compareProjects(before, after);
    expect(change.files).toEqual([{ path: 'core/t.sql', kind: 'changed' }]);
    migrations(before, after, change);
    losses(before, after, change);
    impactOf(before, after);
    freedColumns(before, after);
    changedChecks(before, after);
    wrongFormerNames(before, after);
    restoredTables(before, after, { tables: new Set(before.tables.keys()), copies: new Set() });
  }
});
