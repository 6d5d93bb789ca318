import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { compareProjects } from './changes.js';
import { losses, migrations } from './migration.js';

beforeAll(() => loadParser());

const BEFORE = `create table core.t (id bigint options (role 'surrogate key'), k text, a integer, b text,
  f timestamptz options (role 'valid from'), u timestamptz options (role 'valid to')) with (load = history, business_key = 'k');
  select k, a, b from landing.src;`;

const projectOf = (definition: string | null, more: Record<string, string> = {}) =>
  readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema core;'],
      [
        'sources/s.sql',
        'create server s foreign data wrapper postgres_fdw; create foreign table landing.src (k text, a integer, b text, at timestamptz) server s;',
      ],
      ...(definition === null ? [] : [['core/t.sql', definition] as const]),
      ...Object.entries(more),
    ]),
  );

/** What a change of the definition asks: choices, statements, obstacle, losses. */
function asked(after: string | null) {
  const [a, b] = [projectOf(BEFORE), projectOf(after)];
  const change = compareProjects(a, b);
  const [m] = migrations(a, b, change);
  return {
    choices: m?.choices.join(', '),
    statements: m?.statements,
    obstacle: m?.obstacle,
    losses: losses(a, b, change),
  };
}

describe('a changed definition of a table that keeps rows', () => {
  const t = 'alter table core.t';
  test.each<[string, string | null, ReturnType<typeof asked>]>([
    ['nothing changed', BEFORE, { choices: undefined, statements: undefined, obstacle: undefined, losses: [] }],
    [
      'only the query',
      BEFORE.replace('a, b from', 'a + 1 as a, b from'),
      { choices: 'go on, correct, start over', statements: [], obstacle: undefined, losses: [] },
    ],
    [
      'a column more',
      BEFORE.replace('b text,', 'b text, c date,').replace('a, b from', "a, b, date '2026-01-01' as c from"),
      {
        choices: 'go on, correct, start over',
        statements: [`${t} add column c date; -- null in the rows that are there`],
        obstacle: undefined,
        losses: [],
      },
    ],
    [
      'a column less',
      BEFORE.replace(' b text,', '').replace('a, b from', 'a from'),
      {
        choices: 'go on, correct, start over',
        statements: [`${t} drop column b;`],
        obstacle: undefined,
        losses: [{ of: 'core.t.b' }],
      },
    ],
    [
      'a column renamed and widened',
      BEFORE.replace('a integer', "amount bigint options (was 'a')").replace('a, b from', 'a as amount, b from'),
      {
        choices: 'go on, correct, start over',
        statements: [
          `${t} rename column a to amount;`,
          `${t} alter column amount type bigint using cast(amount as bigint);`,
        ],
        obstacle: undefined,
        losses: [],
      },
    ],
    [
      'a column whose values may not fit any more',
      BEFORE.replace('b text,', 'b varchar(3),'),
      {
        choices: 'go on, start over',
        statements: [`${t} alter column b type varchar(3) using cast(b as varchar(3));`],
        obstacle: undefined,
        losses: [{ of: 'core.t.b', cutTo: 'varchar(3)' }],
      },
    ],
    [
      'another key',
      BEFORE.replace("business_key = 'k'", "business_key = 'b'"),
      { choices: 'start over', statements: [], obstacle: 'its business_key was k and is b', losses: [] },
    ],
    [
      'events instead of states',
      BEFORE.replace("business_key = 'k'", "business_key = 'k', effective_from = 'at'").replace(
        'a, b from',
        'a, b, at from',
      ),
      { choices: 'start over', statements: [], obstacle: 'its effective_from was nothing and is at', losses: [] },
    ],
    [
      'rebuilt from now on',
      'create table core.t (k text); select k from landing.src;',
      { choices: undefined, statements: undefined, obstacle: undefined, losses: [] },
    ],
    ['deleted', null, { choices: undefined, statements: undefined, obstacle: undefined, losses: [{ of: 'core.t' }] }],
  ])('%s', (_, after, expected) => expect(asked(after)).toEqual(expected));

  test('a column stays where drift keeps what is there', () => {
    const drifting = BEFORE.replace("business_key = 'k'", "business_key = 'k', drift = add").replace(' b text,', '');
    expect(asked(drifting).losses).toEqual([]);
    expect(
      projectOf(drifting)
        .columns.get('core.t')!
        .map((c) => c.name),
    ).toEqual(['id', 'k', 'a', 'f', 'u', 'b']);
  });

  test('a deleted view is no loss', () => {
    const [a, b] = [projectOf(BEFORE, { 'core/v.sql': 'select k from core.t' }), projectOf(BEFORE)];
    expect(losses(a, b, compareProjects(a, b))).toEqual([]);
  });
});
