/** Graphs of tables: for each name, the names that it reads. */
export type Reads = ReadonlyMap<string, readonly string[]>;

export interface Ordering {
  /** Every name that is on no cycle, each after what it reads. */
  readonly order: readonly string[];
  /** Cycles, each as a closed path: `a, b, a`. */
  readonly cycles: readonly (readonly string[])[];
}

/**
 * Orders names so that each comes after what it reads, stable for a given map. Strongly connected
 * components (Tarjan 1972, without recursion) come out in that order; one of several names, or of a
 * name that reads itself, holds cycles: the shortest through each of its names is reported.
 */
export function orderOf(reads: Reads): Ordering {
  const order: string[] = [];
  const cycles: string[][] = [];
  for (const component of componentsOf(reads)) {
    const [name] = component;
    if (component.length === 1 && !reads.get(name!)!.includes(name!)) order.push(name!);
    else cycles.push(...cyclesOf(reads, component));
  }
  return { order, cycles };
}

interface Visit {
  readonly name: string;
  readonly index: number;
  low: number;
  next: number;
}

/** Sets of names that all reach each other, each set after those that it reads. */
function componentsOf(reads: Reads): string[][] {
  const visits = new Map<string, Visit>();
  const open: string[] = [];
  const isOpen = new Set<string>();
  const components: string[][] = [];
  const enter = (name: string): Visit => {
    const visit = { name, index: visits.size, low: visits.size, next: 0 };
    visits.set(name, visit);
    open.push(name);
    isOpen.add(name);
    return visit;
  };
  for (const start of reads.keys()) {
    const stack = visits.has(start) ? [] : [enter(start)];
    for (let top = stack.at(-1); top; top = stack.at(-1)) {
      const input = reads.get(top.name)![top.next++];
      if (input !== undefined) {
        const seen = visits.get(input);
        if (!seen && reads.has(input)) stack.push(enter(input));
        else if (seen && isOpen.has(input)) top.low = Math.min(top.low, seen.index);
        continue;
      }
      stack.pop();
      const above = stack.at(-1);
      if (above) above.low = Math.min(above.low, top.low);
      if (top.low < top.index) continue;
      const component = open.splice(open.lastIndexOf(top.name));
      for (const name of component) isOpen.delete(name);
      components.push(component);
    }
  }
  return components;
}

/** Closed paths within a component that together pass through all its names. */
function cyclesOf(reads: Reads, component: readonly string[]): string[][] {
  const members = new Set(component);
  const covered = new Set<string>();
  const cycles: string[][] = [];
  for (const name of component) {
    if (covered.has(name)) continue;
    const cycle = shortestCycle(reads, members, name);
    for (const step of cycle) covered.add(step);
    cycles.push(cycle);
  }
  return cycles;
}

function shortestCycle(reads: Reads, members: ReadonlySet<string>, start: string): string[] {
  const cameFrom = new Map<string, string>();
  for (const queue = [start]; queue.length;) {
    const name = queue.shift()!;
    for (const input of reads.get(name)!) {
      if (!members.has(input) || cameFrom.has(input)) continue;
      cameFrom.set(input, name);
      if (input === start) return pathTo(cameFrom, start);
      queue.push(input);
    }
  }
  throw new Error(`${start} is on no cycle`);
}

function pathTo(cameFrom: ReadonlyMap<string, string>, start: string): string[] {
  const path = [start];
  do path.unshift(cameFrom.get(path[0]!)!);
  while (path[0] !== start);
  return path;
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

/**
 * The names that are reached from some, each once and after what it reads itself, where nothing goes round in a cycle.
 * @param inputsOf what a name reads; nothing for a name that is left out
 */
export function afterInputs(
  starts: Iterable<string>,
  inputsOf: (name: string) => Iterable<string> | undefined,
): string[] {
  const seen = new Set<string>();
  const ordered: string[] = [];
  for (const start of starts) {
    const open: { name: string; inputs: Iterator<string> }[] = [];
    const enter = (name: string) => {
      if (seen.has(name)) return;
      const inputs = inputsOf(name);
      if (!inputs) return;
      seen.add(name);
      open.push({ name, inputs: inputs[Symbol.iterator]() });
    };
    enter(start);
    for (let top = open.at(-1); top; top = open.at(-1)) {
      const { value, done } = top.inputs.next();
      if (!done) enter(value);
      else ordered.push(open.pop()!.name);
    }
  }
  return ordered;
}
