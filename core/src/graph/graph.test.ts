import { describe, expect, test } from '@jest/globals';
import fc from 'fast-check';
import { afterInputs, orderOf, reachable, readersOf, select } from './graph.js';

/** Graphs of up to twelve names; every edge is possible, cycles and edges to itself too. */
const graphs = fc
  .integer({ min: 1, max: 12 })
  .chain((size) =>
    fc
      .array(fc.tuple(fc.nat(size - 1), fc.nat(size - 1)), { maxLength: 24 })
      .map(
        (edges) =>
          new Map(
            Array.from({ length: size }, (_, i) => [
              `t${i}`,
              [...new Set(edges.filter((e) => e[0] === i).map((e) => `t${e[1]}`))],
            ]),
          ),
      ),
  );

/** Names that lie on a cycle or reach themselves, by plain repetition. */
function onCycle(graph: ReadonlyMap<string, readonly string[]>): Set<string> {
  const found = new Set<string>();
  for (const name of graph.keys()) {
    const seen = new Set(graph.get(name));
    for (let size = -1; size !== seen.size;) {
      size = seen.size;
      for (const s of [...seen]) for (const t of graph.get(s) ?? []) seen.add(t);
    }
    if (seen.has(name)) found.add(name);
  }
  return found;
}

describe('an order', () => {
  test('has every name after what it reads, and none twice', () => {
    fc.assert(
      fc.property(graphs, (graph) => {
        const { order } = orderOf(graph);
        expect(new Set(order).size).toBe(order.length);
        const cyclic = onCycle(graph);
        for (const name of order) {
          expect(cyclic.has(name)).toBe(false);
          for (const input of graph.get(name)!)
            if (!cyclic.has(input)) expect(order.indexOf(input)).toBeLessThan(order.indexOf(name));
        }
      }),
    );
  });
  test('leaves out what is on a cycle and nothing else, and shows closed paths of real edges', () => {
    fc.assert(
      fc.property(graphs, (graph) => {
        const { order, cycles } = orderOf(graph);
        const cyclic = onCycle(graph);
        expect([...graph.keys()].filter((n) => !order.includes(n)).sort()).toEqual([...cyclic].sort());
        expect(cycles.length > 0).toBe(cyclic.size > 0);
        for (const cycle of cycles) {
          expect(cycle[0]).toBe(cycle.at(-1));
          cycle.slice(1).forEach((name, i) => expect(graph.get(cycle[i]!)).toContain(name));
        }
      }),
    );
  });
});

describe('selections', () => {
  const chain = new Map([
    ['a', []],
    ['b', ['a']],
    ['c', ['b']],
    ['d', ['c', 'x']],
    ['x', []],
  ]);
  test.each([
    ['only it', { tables: ['b'], upstream: false, downstream: false }, 'b'],
    ['what it needs', { tables: ['c'], upstream: true, downstream: false }, 'a b c'],
    ['what it feeds', { tables: ['c'], upstream: false, downstream: true }, 'c d'],
    ['both: what is fed brings what it needs', { tables: ['c'], upstream: true, downstream: true }, 'a b c d x'],
  ])('%s', (_, selection, expected) => expect([...select(chain, selection)].sort().join(' ')).toBe(expected));

  test('readers are the reverse, and distances are the shortest', () => {
    fc.assert(
      fc.property(graphs, (graph) => {
        const readers = readersOf(graph);
        for (const [name, inputs] of graph) for (const input of inputs) expect(readers.get(input)).toContain(name);
        const distances = reachable(graph, ['t0']);
        for (const [name, distance] of distances) {
          const before = [...graph]
            .filter(([n, inputs]) => distances.has(n) && inputs.includes(name))
            .map(([n]) => distances.get(n)!);
          expect(distance).toBe(name === 't0' ? 0 : Math.min(...before) + 1);
        }
        expect([...reachable(graph, ['t0'], 1).keys()].sort()).toEqual(
          [...new Set(['t0', ...graph.get('t0')!])].sort(),
        );
      }),
    );
  });
});

describe('names after what they read', () => {
  const chain = new Map(Array.from({ length: 50_000 }, (_, i) => [`n${i}`, [`n${i + 1}`]]));
  test.each<[string, readonly string[], Readonly<Record<string, readonly string[]>>, readonly string[]]>([
    ['each once', ['c', 'b'], { a: [], b: ['a'], c: ['a', 'b'] }, ['a', 'b', 'c']],
    ['a cycle ends', ['a'], { a: ['b'], b: ['c'], c: ['a'] }, ['c', 'b', 'a']],
    ['one that reads itself', ['a'], { a: ['a'] }, ['a']],
    ['what is left out leaves out nothing else', ['a'], { a: ['x', 'b'], b: [] }, ['b', 'a']],
  ])('%s', (_, starts, reads, expected) => expect(afterInputs(starts, (name) => reads[name])).toEqual(expected));
  test('a long chain', () => expect(afterInputs(['n0'], (name) => chain.get(name)).at(-1)).toBe('n0'));
});
