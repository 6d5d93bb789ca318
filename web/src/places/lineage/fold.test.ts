import { describe, expect, test } from '@jest/globals';
import type { TableSummary } from '../../worker/protocol';
import { fold, layersToFold, type Folded } from './fold';

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

describe('layers are folded where the drawing is too wide', () => {
  const RANKS: Readonly<Record<string, number>> = { landing: 1, staging: 2, core: 3, mart: 1 };
  const tables = ['landing.a', 'staging.b', 'staging.c', 'core.d', 'core.e', 'core.f', 'mart.g'].map((name) =>
    table(name, `${name.replace('.', '/')}.sql`),
  );
  /** A rank is 100 wide; a layer of which nothing is drawn apart has one. */
  const widthOf = ({ nodes }: Folded) => {
    const layers = new Map<string, number>();
    for (const n of nodes) layers.set(n.layer, n.isGroup ? 1 : RANKS[n.layer]!);
    return { width: 100 * [...layers.values()].reduce((a, b) => a + b, 0), ranks: layers };
  };
  test.each<[number, readonly string[], readonly string[]]>([
    [700, [], []],
    [600, [], ['staging']],
    [500, [], ['core']],
    [400, [], ['core', 'staging']],
    [100, [], ['core', 'staging']],
    [600, ['staging/*'], ['core']],
  ])('into %d pixels, with %j open: %j', (room, open, expected) =>
    expect([...layersToFold({ tables, edges: [] }, new Set(open), room, widthOf)]).toEqual(expected),
  );
  test('a folded layer is one box with all of its tables', () =>
    expect(fold({ tables, edges: [] }, new Set(), new Set(['core'])).nodes.map((n) => `${n.id} ${n.name}`)).toContain(
      'core/* core tables',
    ));
});
