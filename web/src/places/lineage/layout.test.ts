import { describe, expect, test } from '@jest/globals';
import { layOut, NODE_HEIGHT, NODE_WIDTH, type Box } from './layout';

const boxes = (...names: readonly string[]): Box[] => names.map((n) => ({ name: n, layer: Number(n[1]) }));
const at = (placed: ReturnType<typeof layOut>, name: string) => placed.positions.get(name)!;

describe('the layout', () => {
  test('layers stand from left to right, ranks of a layer beside each other, and no arrow runs back', () => {
    const edges = [
      ['a0', 'b1'],
      ['b1', 'c1'],
      ['c1', 'd1'],
      ['a0', 'e2'],
    ] as const;
    const placed = layOut(boxes('e2', 'd1', 'c1', 'b1', 'a0'), edges, 50);
    const step = NODE_WIDTH + 50;
    expect(['a0', 'b1', 'c1', 'd1', 'e2'].map((n) => at(placed, n).x)).toEqual([0, step, 2 * step, 3 * step, 4 * step]);
    for (const [from, to] of edges) expect(at(placed, to).x).toBeGreaterThan(at(placed, from).x);
  });
  test('boxes of a rank do not touch, and stand in the order of what they read', () => {
    const placed = layOut(boxes('a0', 'b0', 'c0', 'z1', 'y1', 'x1'), [
      ['a0', 'x1'],
      ['b0', 'y1'],
      ['c0', 'z1'],
    ]);
    const top = (n: string) => Math.round(at(placed, n).y);
    expect(['x1', 'y1', 'z1'].map(top)).toEqual(['a0', 'b0', 'c0'].map(top));
    expect([top('x1'), top('y1'), top('z1')].sort((a, b) => a - b)).toEqual([
      0,
      NODE_HEIGHT + 16,
      2 * (NODE_HEIGHT + 16),
    ]);
  });
  test('one that is read by many stands in the middle of them', () => {
    const placed = layOut(
      boxes('a0', 'p1', 'q1', 'r1'),
      ['p1', 'q1', 'r1'].map((n) => ['a0', n] as const),
    );
    expect(at(placed, 'a0').y).toBeCloseTo(at(placed, 'q1').y);
    expect(placed.height).toBe(3 * NODE_HEIGHT + 2 * 16);
  });
  test('higher boxes have the room that they need', () => {
    const placed = layOut(
      [
        { name: 'a', layer: 0, height: 100 },
        { name: 'b', layer: 0, height: 40 },
      ],
      [],
    );
    expect(Math.abs(at(placed, 'b').y - at(placed, 'a').y)).toBeGreaterThanOrEqual(56);
  });
  test('an arrow over several ranks has a way through them that touches no box', () => {
    const placed = layOut(boxes('a0', 'b1', 'c1', 'd1', 'e2'), [
      ['a0', 'b1'],
      ['b1', 'e2'],
      ['a0', 'e2'],
      ['c1', 'e2'],
    ]);
    const [stop, ...others] = placed.routes.get('a0 e2')!;
    expect([others, placed.routes.has('a0 b1')]).toEqual([[], false]);
    for (const name of ['b1', 'c1', 'd1']) {
      const { y } = at(placed, name);
      expect(stop!.y < y || stop!.y > y + NODE_HEIGHT).toBe(true);
    }
  });
  test('what reads itself, what is not there and nothing at all do no harm', () => {
    const placed = layOut(boxes('a0', 'b0'), [
      ['a0', 'b0'],
      ['b0', 'a0'],
      ['a0', 'gone'],
    ]);
    expect(placed.positions.size).toBe(2);
    expect(layOut([], [])).toEqual({ positions: new Map(), routes: new Map(), width: 0, height: 0 });
  });
  test('takes a time that grows with the tables: ten times as many take far less than a hundred times as long', () => {
    const many = (count: number) => {
      const list = Array.from({ length: count }, (_, i): Box => ({
        name: `t${i}`,
        layer: Math.floor((i * 5) / count),
      }));
      const edges = list.slice(1).map((b, i) => [list[Math.floor(i / 2)]!.name, b.name] as const);
      const began = performance.now();
      expect(layOut(list, edges).positions.size).toBe(count);
      return performance.now() - began;
    };
    many(1000);
    expect(many(10_000) / Math.max(1, many(1000))).toBeLessThan(60);
  });
});
