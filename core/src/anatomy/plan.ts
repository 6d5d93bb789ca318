import type { Step } from './step.js';

/** A node of PostgreSQL's plan as `explain (format json)` writes it. */
export interface ExplainedNode {
  readonly 'Node Type': string;
  readonly 'Relation Name'?: string;
  readonly Schema?: string;
  readonly Alias?: string;
  readonly 'Index Name'?: string;
  readonly 'CTE Name'?: string;
  readonly 'Function Name'?: string;
  readonly 'Join Type'?: string;
  readonly Strategy?: string;
  readonly Filter?: string;
  readonly 'Hash Cond'?: string;
  readonly 'Merge Cond'?: string;
  readonly 'Join Filter'?: string;
  readonly 'Index Cond'?: string;
  readonly 'Recheck Cond'?: string;
  readonly 'Group Key'?: readonly string[];
  readonly 'Sort Key'?: readonly string[];
  readonly 'Total Cost': number;
  readonly 'Plan Rows': number;
  readonly 'Actual Rows'?: number;
  readonly 'Actual Loops'?: number;
  readonly 'Actual Total Time'?: number;
  readonly 'Rows Removed by Filter'?: number;
  readonly 'Rows Removed by Join Filter'?: number;
  readonly 'Sort Space Type'?: string;
  readonly 'Sort Space Used'?: number;
  readonly 'Hash Batches'?: number;
  readonly 'Temp Written Blocks'?: number;
  readonly 'Shared Hit Blocks'?: number;
  readonly 'Shared Read Blocks'?: number;
  readonly 'Subplan Name'?: string;
  readonly Plans?: readonly ExplainedNode[];
}

export interface Explained {
  readonly Plan: ExplainedNode;
  readonly 'Planning Time'?: number;
  readonly 'Execution Time'?: number;
}

/** A node of a plan. Rows and times are of all its loops together; of a plan that was not run both are undefined. */
export interface PlanNode {
  readonly id: number;
  readonly parent: number | undefined;
  readonly depth: number;
  readonly type: string;
  /** The name in the warehouse of what is scanned. */
  readonly relation?: { readonly schema: string; readonly name: string };
  readonly alias?: string;
  readonly index?: string;
  /** Its conditions, as PostgreSQL writes them. */
  readonly condition?: string;
  readonly filter?: string;
  readonly joinFilter?: string;
  readonly estimatedRows: number;
  readonly rows?: number;
  readonly loops?: number;
  /** Milliseconds in the node itself, and with what is below it. */
  readonly ownTime?: number;
  readonly totalTime?: number;
  /** The planner's cost of the node itself. */
  readonly ownCost: number;
  /** Rows that its filters removed. */
  readonly removed?: number;
  /** Kilobytes that a sort or a hash wrote to disk. */
  readonly spilled?: number;
  /** Blocks of 8 kB that were read, in memory and from disk. */
  readonly hitBlocks?: number;
  readonly readBlocks?: number;
  /** The step of the anatomy that it serves. */
  readonly step?: string;
}

const KB_A_BLOCK = 8;

/** A plan as a list, each node before those below it. */
export function planNodes({ Plan }: Explained, steps: readonly Step[]): PlanNode[] {
  const nodes: PlanNode[] = [];
  const add = (node: ExplainedNode, parent: number | undefined, depth: number): void => {
    const id = nodes.length;
    nodes.push(nodeOf(node, { id, parent, depth }));
    for (const below of node.Plans ?? []) add(below, id, depth + 1);
  };
  add(Plan, undefined, 0);
  const stepOf = linked(nodes, steps);
  return nodes.map((n) => {
    const step = stepOf(n);
    return step === undefined ? n : { ...n, step };
  });
}

const timeOf = (node: ExplainedNode): number | undefined =>
  node['Actual Total Time'] === undefined ? undefined : node['Actual Total Time'] * (node['Actual Loops'] ?? 1);

/** What a subplan or a common table expression takes is part of where it is read. */
function nodeOf(
  node: ExplainedNode,
  at: { readonly id: number; readonly parent: number | undefined; readonly depth: number },
): PlanNode {
  const total = timeOf(node);
  const below = (node.Plans ?? []).reduce((sum, p) => sum + (timeOf(p) ?? 0), 0);
  const loops = node['Actual Loops'];
  const costBelow = (node.Plans ?? []).reduce((sum, p) => sum + p['Total Cost'], 0);
  const removed = (node['Rows Removed by Filter'] ?? 0) + (node['Rows Removed by Join Filter'] ?? 0);
  const condition = node['Hash Cond'] ?? node['Merge Cond'] ?? node['Index Cond'] ?? node['Recheck Cond'];
  const keys = node['Group Key'] ?? node['Sort Key'];
  const spilled = spilledOf(node);
  return {
    ...at,
    type: typeOf(node),
    ...(node['Relation Name'] === undefined
      ? {}
      : { relation: { schema: node.Schema ?? '', name: node['Relation Name'] } }),
    ...(aliasOf(node) === undefined ? {} : { alias: aliasOf(node)! }),
    ...(node['Index Name'] === undefined ? {} : { index: node['Index Name'] }),
    ...(condition === undefined && keys === undefined ? {} : { condition: condition ?? `by ${keys!.join(', ')}` }),
    ...(node.Filter === undefined ? {} : { filter: node.Filter }),
    ...(node['Join Filter'] === undefined ? {} : { joinFilter: node['Join Filter'] }),
    estimatedRows: node['Plan Rows'],
    ...(loops === undefined ? {} : { loops, rows: Math.round((node['Actual Rows'] ?? 0) * loops) }),
    ...(total === undefined ? {} : { totalTime: total, ownTime: Math.max(0, total - below) }),
    ownCost: Math.max(0, node['Total Cost'] - costBelow),
    ...(removed ? { removed: Math.round(removed * (loops ?? 1)) } : {}),
    ...(spilled ? { spilled } : {}),
    ...(node['Shared Hit Blocks'] === undefined
      ? {}
      : { hitBlocks: node['Shared Hit Blocks'], readBlocks: node['Shared Read Blocks'] ?? 0 }),
  };
}

const aliasOf = (node: ExplainedNode) => node.Alias ?? node['CTE Name'] ?? node['Function Name'];

function typeOf(node: ExplainedNode): string {
  const { Strategy: strategy, 'Join Type': join } = node;
  const type = node['Node Type'];
  if (type === 'Aggregate' && strategy !== undefined) return `${strategy} Aggregate`.toLowerCase();
  if (join === undefined || join === 'Inner') return type.toLowerCase();
  return `${type} (${join})`.toLowerCase();
}

function spilledOf(node: ExplainedNode): number | undefined {
  if (node['Sort Space Type'] === 'Disk') return node['Sort Space Used'];
  if ((node['Hash Batches'] ?? 1) <= 1) return undefined;
  const own =
    (node['Temp Written Blocks'] ?? 0) - (node.Plans ?? []).reduce((n, p) => n + (p['Temp Written Blocks'] ?? 0), 0);
  return own > 0 ? own * KB_A_BLOCK : undefined;
}

// Steps ------------------------------------------------------------------------------------------

const KINDS: readonly (readonly [RegExp, readonly Step['kind'][]])[] = [
  [/scan/, ['source']],
  [/nested loop|join/, ['join', 'filter']],
  [/aggregate|^group$|^unique$/, ['group']],
  [/windowagg/, ['window']],
  [/append|setop|recursive union/, ['stack']],
  [/^limit$/, ['limit']],
  [/projectset/, ['expand']],
];

/**
 * Leads from a node to the step that it serves: one of its kind over the same sources. Sorts, hashes and the like serve
 * the step above them.
 */
function linked(nodes: readonly PlanNode[], steps: readonly Step[]): (node: PlanNode) => string | undefined {
  const known = new Map(steps.map((s) => [s.id, s]));
  const sources = new Map<string, ReadonlySet<string>>();
  for (const step of steps) {
    const below = step.inputs.flatMap((i) => [...(sources.get(i) ?? [])]);
    sources.set(step.id, new Set(step.kind === 'source' && !step.inputs.length ? [step.id] : below));
  }
  const read = new Map<number, Set<string>>(nodes.map((n) => [n.id, new Set<string>()]));
  for (const node of [...nodes].reverse()) {
    const names = read.get(node.id)!;
    for (const source of scannedSources(node, steps, sources)) names.add(source);
    if (node.parent !== undefined) for (const name of names) read.get(node.parent)!.add(name);
  }
  const found = new Map<number, string | undefined>();
  for (const node of nodes) {
    const kinds = KINDS.find(([type]) => type.test(node.type))?.[1];
    const names = read.get(node.id)!;
    const ofKind = [...known.values()].filter((s) => kinds?.includes(s.kind));
    const same = ofKind.filter((s) => isSame(sources.get(s.id)!, names));
    // What a view reads bears names that the query does not have.
    const isPartlyKnown = [...names].some((n) => known.has(n)) && [...names].some((n) => !known.has(n));
    const around = !isPartlyKnown ? [] : ofKind.filter((s) => holds(sources.get(s.id)!, names, known));
    const best = same.find((s) => s.kind === kinds?.[0]) ?? same[0] ?? smallest(around, sources);
    found.set(node.id, best?.id ?? (node.parent === undefined ? undefined : found.get(node.parent)));
  }
  return (node) => found.get(node.id);
}

/** The sources that a scan reads; of a query's own rows those that are below it. */
function scannedSources(
  { type, alias }: PlanNode,
  steps: readonly Step[],
  sources: ReadonlyMap<string, ReadonlySet<string>>,
): Iterable<string> {
  if (alias === undefined || !/scan/.test(type) || type === 'subquery scan') return [];
  if (type === 'cte scan')
    return sources.get(steps.find((s) => s.name === alias && s.kind !== 'result')?.id ?? '') ?? [];
  const named = (name: string) => steps.filter((s) => s.kind === 'source' && !s.inputs.length && s.name === name);
  const exact = named(alias);
  if (exact.length) return [exact[0]!.id];
  // PostgreSQL numbers names that occur again: `b`, `b_1`.
  const [, plain, nth] = /^(.*)_(\d+)$/.exec(alias) ?? [];
  const again = plain === undefined ? [] : named(plain);
  return again.length ? [(again[Number(nth)] ?? again[0]!).id] : [alias];
}

const isSame = (a: ReadonlySet<string>, b: ReadonlySet<string>) => a.size === b.size && [...a].every((x) => b.has(x));

/** Whether all sources that are known are among some. */
const holds = (all: ReadonlySet<string>, names: ReadonlySet<string>, known: ReadonlyMap<string, unknown>) =>
  [...names].every((n) => all.has(n) || !known.has(n));

const smallest = (steps: readonly Step[], sources: ReadonlyMap<string, ReadonlySet<string>>): Step | undefined =>
  [...steps].sort((a, b) => sources.get(a.id)!.size - sources.get(b.id)!.size)[0];
