export const NODE_WIDTH = 150;
export const NODE_HEIGHT = 27;

export interface Point {
  readonly x: number;
  readonly y: number;
}

export interface Placed {
  readonly positions: ReadonlyMap<string, Point>;
  readonly width: number;
  readonly height: number;
  /** Of arrows over several ranks, by `from to`: the middles of the gaps in the ranks that they pass. */
  readonly routes: ReadonlyMap<string, readonly Point[]>;
}

export interface Box {
  readonly name: string;
  /** The position of its layer: boxes of a layer stand to the right of those of the layers before it. */
  readonly layer: number;
  readonly width?: number;
  readonly height?: number;
}

/** Pixels between two boxes of a rank. */
const SPACE = 16;
/** Passes over all ranks: more move little. */
const SWEEPS = 8;
/** The room that an arrow has in a rank that it passes, in pixels. */
const PASSAGE = 6;
/** More passages than that are left out: where so many arrows are, nobody follows one by eye. */
const MOST_PASSAGES = 6000;

interface Item {
  readonly name: string;
  readonly width: number;
  readonly height: number;
  readonly layer: number;
  readonly before: Item[];
  readonly after: Item[];
  /** Its neighbours in the ranks beside it: items, and passages of longer arrows. */
  readonly left: Item[];
  readonly right: Item[];
  rank: number;
  column: number;
  y: number;
}

const itemOf = (name: string, layer: number, width: number, height: number): Item => ({
  name,
  layer,
  width,
  height,
  before: [],
  after: [],
  left: [],
  right: [],
  rank: 0,
  column: 0,
  y: 0,
});

/**
 * Lays boxes out from left to right: a layer is as many ranks deep as it needs, so that no arrow runs back. In each rank
 * boxes are ordered by where those that they are joined with stand, and moved there as far as they have room (the
 * barycentre method, with pooled neighbours for the room). Takes a time that grows with boxes and arrows, not with
 * their square.
 * @param gap pixels between ranks
 */
export function layOut(boxes: readonly Box[], edges: readonly (readonly [string, string])[], gap = 70): Placed {
  const items = new Map(
    boxes.map(({ name, layer, width = NODE_WIDTH, height = NODE_HEIGHT }): [string, Item] => [
      name,
      itemOf(name, layer, width, height),
    ]),
  );
  for (const [from, to] of edges) {
    const [a, b] = [items.get(from), items.get(to)];
    if (!a || !b || a === b) continue;
    a.after.push(b);
    b.before.push(a);
  }
  const columns = columnsOf([...items.values()]);
  const passages = passagesOf([...items.values()], columns);
  for (const column of columns) place(column, () => 0);
  for (let sweep = 0; sweep < SWEEPS; sweep++) {
    const isForward = sweep % 2 === 0;
    for (const column of isForward ? columns : [...columns].reverse())
      place(
        column,
        (item) => middleOf(isForward ? item.left : item.right) ?? middleOf(isForward ? item.right : item.left),
      );
  }
  return positionsOf(columns, passages, gap);
}

/** The ranks of all layers, from left to right. */
function columnsOf(items: readonly Item[]): Item[][] {
  const layers = [...new Set(items.map((i) => i.layer))].sort((a, b) => a - b);
  return layers.flatMap((layer) => {
    const own = items.filter((i) => i.layer === layer);
    rank(own, layer);
    const columns: Item[][] = [];
    for (const item of own) (columns[item.rank] ??= []).push(item);
    return columns.filter((c) => c !== undefined);
  });
}

/** Each item one rank behind the last of its own layer that it reads; what reads itself stays in the first. */
function rank(items: readonly Item[], layer: number): void {
  const waiting = new Map(items.map((i) => [i, i.before.filter((b) => b.layer === layer).length]));
  const open = items.filter((i) => waiting.get(i) === 0);
  for (let i = 0; i < open.length; i++)
    for (const next of open[i]!.after) {
      if (next.layer !== layer) continue;
      next.rank = Math.max(next.rank, open[i]!.rank + 1);
      const left = waiting.get(next)! - 1;
      waiting.set(next, left);
      if (left === 0) open.push(next);
    }
}

function middleOf(items: readonly Item[]): number | undefined {
  if (items.length === 0) return undefined;
  let sum = 0;
  for (const item of items) sum += item.y + item.height / 2;
  return sum / items.length;
}

/** Orders a rank by where its items would be, and puts each as near to there as those beside it let it. */
function place(column: Item[], wanted: (item: Item) => number | undefined): void {
  const tops = new Map(column.map((item) => [item, (wanted(item) ?? item.y + item.height / 2) - item.height / 2]));
  column.sort((a, b) => tops.get(a)! - tops.get(b)!);
  // Where all stand as near as they can: items in touch are moved together, to the mean of what each wants.
  const pools: { count: number; sum: number; offset: number }[] = [];
  let offset = 0;
  for (const item of column) {
    let pool = { count: 1, sum: tops.get(item)! - offset, offset };
    for (let last = pools.at(-1); last && last.sum / last.count >= pool.sum / pool.count; last = pools.at(-1)) {
      pools.pop();
      pool = { count: last.count + pool.count, sum: last.sum + pool.sum, offset: last.offset };
    }
    pools.push(pool);
    offset += item.height + SPACE;
  }
  offset = 0;
  let i = 0;
  for (const { count, sum } of pools)
    for (const end = i + count; i < end; i++) {
      column[i]!.y = sum / count + offset;
      offset += column[i]!.height + SPACE;
    }
}

/** Joins neighbours, and makes room for arrows in the ranks that they pass. @returns the passages of each such arrow */
function passagesOf(items: readonly Item[], columns: Item[][]): ReadonlyMap<string, readonly Item[]> {
  for (const [i, column] of columns.entries()) for (const item of column) item.column = i;
  const found = new Map<string, readonly Item[]>();
  let count = 0;
  const join = (a: Item, b: Item) => {
    a.right.push(b);
    b.left.push(a);
  };
  for (const from of items)
    for (const to of from.after) {
      const between = to.column - from.column - 1;
      if (between < 0) continue;
      count += between;
      const passed = count > MOST_PASSAGES ? [] : Array.from({ length: between }, () => itemOf('', 0, 0, PASSAGE));
      passed.forEach((passage, i) => columns[from.column + 1 + i]!.push(passage));
      const way = [from, ...passed, to];
      for (let i = 1; i < way.length; i++) join(way[i - 1]!, way[i]!);
      if (passed.length) found.set(`${from.name} ${to.name}`, passed);
    }
  // Where an arrow stands is read from its column.
  for (const [i, column] of columns.entries()) for (const item of column) item.column = i;
  return found;
}

function positionsOf(
  columns: readonly (readonly Item[])[],
  passages: ReadonlyMap<string, readonly Item[]>,
  gap: number,
): Placed {
  const all = columns.flat();
  const top = Math.min(...all.map((i) => i.y), Infinity);
  const positions = new Map<string, Point>();
  const middles: number[] = [];
  let x = 0;
  for (const column of columns) {
    const width = Math.max(...column.map((i) => i.width));
    for (const item of column) if (item.width > 0) positions.set(item.name, { x, y: item.y - top });
    middles.push(x + width / 2);
    x += width + gap;
  }
  const routes = new Map(
    [...passages].map(([key, passed]) => [
      key,
      passed.map((p) => ({ x: middles[p.column]!, y: p.y - top + p.height / 2 })),
    ]),
  );
  const height = all.length ? Math.max(...all.map((i) => i.y + i.height)) - top : 0;
  return { positions, routes, height, width: Math.max(0, x - gap) };
}
