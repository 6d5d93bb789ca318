import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser, parseSql } from './parser.js';
import { parseStatements } from './statements.js';

beforeAll(() => loadParser());

/** Statements that are read one by one: a broken one leaves the others as they are. */
const SOUND = [
  "create server port_ops foreign data wrapper postgres_fdw options (note 'ärger; no end')",
  'create foreign table landing.berth (berth_no text not null, "größe" numeric check (berth_no > \'a\'), unique (berth_no)) server port_ops',
  "comment on foreign table landing.berth is 'Berths 🚢; all of them'",
  "select b.berth_no, case when \"größe\" > 1 then 2 end as x from landing.berth as b where b.berth_no in ('a', 'b')",
  'create index on core.t (a) where b > 1',
  'select $$ ; -- no comment $$ as y /* ; */',
];
const BROKEN = [
  'select from where',
  'create tabel x (a int)',
  ') select 1',
  "select 'never closed",
  'select 1 /* never closed',
  'select a b c',
  'select \u00a0a',
];

describe('one broken statement among sound ones', () => {
  test.each(BROKEN.flatMap((broken) => SOUND.map((_, at) => [broken, at] as const)))('%j at %i', (broken, at) => {
    const [before, after] = [SOUND.slice(0, at), SOUND.slice(at)];
    const text = `-- é\n${[...before, broken, ...after].join(';\n')};\n`;
    const { statements, errors, at: place } = parseStatements(text);
    // A quote or comment that is never closed takes in what follows.
    if (/never closed/.test(broken))
      return expect(statements.slice(0, at).map((s) => text.slice(s.start, s.end))).toEqual(before);
    const kept = [...before, ...after];
    expect(statements.map((s) => text.slice(s.start, s.end))).toEqual(kept);
    expect(errors).toHaveLength(1);
    // Each node says where it is, as it does where all is sound.
    const sound = parseSql(`-- é\n${kept.join(';\n')};\n`);
    const words = (parsed: { text: string; at: (l: number | undefined) => number }, nodes: readonly unknown[]) =>
      locationsIn(nodes).map((location) => /^[^;]{1,5}/.exec(parsed.text.slice(parsed.at(location)))?.[0]);
    expect(
      words(
        { text, at: place },
        statements.map((s) => s.node),
      ),
    ).toEqual(
      words(
        sound,
        sound.statements.map((s) => s.node),
      ),
    );
  });
});

function locationsIn(node: unknown): number[] {
  if (typeof node !== 'object' || node === null) return [];
  return Object.entries(node).flatMap(([key, value]) =>
    typeof value === 'number' && key.endsWith('location') ? [value] : locationsIn(value),
  );
}

test('several broken statements are reported, up to a number; what is behind is left', () => {
  const text = Array.from({ length: 30 }, (_, i) => `select ${i} from; select ${i};`).join('\n');
  const { errors, statements } = parseStatements(text);
  expect([errors.length, statements.length]).toEqual([20, 19]);
});

describe('what is sound stays', () => {
  const read = (files: Record<string, string>) =>
    readProject(new Map(Object.entries({ 'layers.sql': 'create schema landing; create schema core;', ...files })));
  const told = (project: ReturnType<typeof read>) => project.diagnostics.map((d) => `${d.path}: ${d.message}`);
  const contract = `create table core.t (id bigint options (role 'surrogate key') primary key, a text not null) with (load = merge, business_key = 'a', owner = 'us');`;

  test('a query that does not parse leaves its contract to readers', () => {
    const project = read({
      'core/t.sql': `${contract}\ncomment on table core.t is 'said';\nselect a frm landing.x;\ncreate index on core.t (a);`,
      'core/reader.sql': 'select t.a, t.id, t.b from core.t',
    });
    expect(project.tables.get('core.t')).toMatchObject({ policy: 'merge', comment: 'said' });
    expect(project.tables.get('core.t')).not.toHaveProperty('query');
    expect(told(project)).toEqual([
      expect.stringContaining('core/t.sql: syntax error'),
      'core/reader.sql: t has no column b',
    ]);
  });
  test('a contract that does not parse leaves the query’s columns to readers', () => {
    const project = read({
      'core/t.sql': 'create tabel core.t (a text);\nselect 1 as a;',
      'core/reader.sql': 'select t.a, t.b from core.t',
    });
    expect(told(project)).toEqual([
      expect.stringContaining('core/t.sql: syntax error'),
      'core/reader.sql: t has no column b',
    ]);
  });
  test('a source table that does not parse leaves the others', () => {
    const table = (name: string, rest = '') => `create foreign table landing.${name} (a text ${rest}) server s;`;
    const project = read({
      'sources/s.sql': `create server s foreign data wrapper postgres_fdw;\n${table('one')}\n${table('two', 'nott null')}\n${table('three')}`,
      'core/t.sql': 'select a from landing.three union all select a from landing.one',
    });
    expect([...project.tables.keys()].sort()).toEqual(['core.t', 'landing.one', 'landing.three']);
    expect(told(project)).toEqual([expect.stringContaining('sources/s.sql: syntax error')]);
  });
  test('a layer that does not parse leaves the others', () => {
    const project = read({
      'layers.sql': 'create schema landing; create schem staging; create schema core;',
      'core/t.sql': 'select 1 as a',
    });
    expect(told(project)).toEqual([expect.stringContaining('layers.sql: syntax error')]);
  });
});
