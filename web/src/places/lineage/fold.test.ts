import { describe, expect, test } from '@jest/globals';
import type { TableSummary } from '../../worker/protocol';
import { fold } from './fold';

const table = (fullName: string, path: string, kind: TableSummary['kind'] = 'definition') =>
  ({ fullName, path, kind, layer: fullName.split('.')[0]!, name: fullName.split('.')[1]! }) as TableSummary;
const TABLES = [
  table('landing.a', 'sources/ops.sql', 'source'),
  table('landing.b', 'sources/ops.sql', 'source'),
  table('landing.c', 'sources/files.sql', 'source'),
  table('core.d', 'core/money/d.sql'),
  table('core.e', 'core/money/e.sql'),
  table('core.f', 'core/f.sql'),
  table('mart_x.calls', 'mart/calls.sql'),
  table('mart_x.more', 'mart/calls.sql'),
];
const EDGES = [
  ['landing.a', 'core.d'],
  ['landing.b', 'core.d'],
  ['core.d', 'core.e'],
  ['core.e', 'core.f'],
] as const;
const shown = (open: readonly string[] = [], tables = TABLES) => {
  const { nodes, edges } = fold({ tables, edges: EDGES }, new Set(open));
  return { nodes: nodes.map((n) => `${n.name} ${n.tables.length}`), edges: edges.map((e) => e.join(' → ')) };
};

describe('tables are folded', () => {
  test('by source, fan-out and folder; one alone stands apart', () => {
    expect(shown()).toEqual({
      nodes: ['ops 2', 'c 1', 'money 2', 'f 1', 'calls, each 2'],
      edges: ['landing/ops → core/money', 'core/money → core.f'],
    });
  });
  test('a group opens in place', () => {
    expect(shown(['core/money'])).toEqual({
      nodes: ['ops 2', 'c 1', 'd 1', 'e 1', 'f 1', 'calls, each 2'],
      edges: ['landing/ops → core.d', 'core.d → core.e', 'core.e → core.f'],
    });
  });
  test('where there are too many, the rest of a layer is one', () => {
    const many = [...TABLES, ...Array.from({ length: 80 }, (_, i) => table(`core.t${i}`, `core/t${i}.sql`))];
    expect(shown([], many).nodes).toEqual(['ops 2', 'c 1', 'money 2', 'core tables 81', 'calls, each 2']);
  });
});
