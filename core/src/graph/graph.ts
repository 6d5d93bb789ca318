/** Graphs of tables: for each name, the names that it reads. */
export type Reads = ReadonlyMap<string, readonly string[]>;

export interface Ordering {
  /** Every name that is on no cycle, each after what it reads. */
  readonly order: readonly string[];
  /** Cycles, each as a closed path: `a, b, a`. */
  readonly cycles: readonly (readonly string[])[];
}

/** Orders names so that each comes after what it reads; depth first, so stable for a given map. */
export function orderOf(reads: Reads): Ordering {
  const state = new Map<string, 'open' | 'done' | 'cyclic'>();
  const order: string[] = [];
  const cycles: string[][] = [];
  const path: string[] = [];
  const visit = (start: string): void => {
    const stack: { name: string; next: number }[] = [{ name: start, next: 0 }];
    state.set(start, 'open');
    path.push(start);
    while (stack.length) {
      const frame = stack.at(-1)!;
      const inputs = reads.get(frame.name) ?? [];
      const input = inputs[frame.next++];
      if (input === undefined) {
        stack.pop();
        path.pop();
        const cyclic = state.get(frame.name) === 'cyclic';
        if (!cyclic) {
          state.set(frame.name, 'done');
          order.push(frame.name);
        }
        continue;
      }
      if (!reads.has(input)) continue;
      const seen = state.get(input);
      if (seen === undefined) {
        state.set(input, 'open');
        path.push(input);
        stack.push({ name: input, next: 0 });
      } else if (seen !== 'done' && path.includes(input)) {
        const cycle = path.slice(path.indexOf(input));
        cycles.push([...cycle, input]);
        for (const name of cycle) state.set(name, 'cyclic');
      }
    }
  };
  for (const name of reads.keys()) if (!state.has(name)) visit(name);
  return { order, cycles };
}

/** The reverse of a graph: for each name, the names that read it. */
export function readersOf(reads: Reads): Map<string, string[]> {
  const readers = new Map<string, string[]>();
  for (const [name, inputs] of reads) {
    for (const input of inputs) {
      const list = readers.get(input);
      if (list) list.push(name);
      else readers.set(input, [name]);
    }
  }
  return readers;
}

/** All names reachable from `start` within `hops` steps, start included, with their distance. */
export function reachable(graph: Reads, start: Iterable<string>, hops = Infinity): Map<string, number> {
  const distance = new Map<string, number>();
  let frontier = [...start];
  for (const name of frontier) distance.set(name, 0);
  for (let step = 1; step <= hops && frontier.length; step++) {
    const next: string[] = [];
    for (const name of frontier) {
      for (const neighbour of graph.get(name) ?? []) {
        if (distance.has(neighbour)) continue;
        distance.set(neighbour, step);
        next.push(neighbour);
      }
    }
    frontier = next;
  }
  return distance;
}

/** What a run covers: the named tables, what they need, what they feed, or both. */
export interface Selection {
  readonly tables: readonly string[];
  readonly upstream: boolean;
  readonly downstream: boolean;
}

/** The tables of a selection, as a set. */
export function select(reads: Reads, selection: Selection): Set<string> {
  const chosen = new Set(selection.tables);
  if (selection.downstream) for (const name of reachable(readersOf(reads), selection.tables).keys()) chosen.add(name);
  if (selection.upstream) for (const name of reachable(reads, [...chosen]).keys()) chosen.add(name);
  return chosen;
}
