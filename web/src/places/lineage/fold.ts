import type { TableSummary } from '../../worker/protocol';
import type { Shown } from './focus';

/** What is drawn as one: a table, or a group of tables of a layer. */
export interface FoldedNode {
  readonly id: string;
  readonly layer: string;
  readonly name: string;
  readonly tables: readonly TableSummary[];
  readonly isGroup: boolean;
}

export interface Folded {
  readonly nodes: readonly FoldedNode[];
  readonly edges: readonly (readonly [string, string])[];
  /** The group of each table that has one, folded or open. */
  readonly groupOf: ReadonlyMap<string, string>;
}

/** More are no longer taken in at one look. */
const MOST_APART = 60;

/**
 * Tables folded into groups: those of one source, of one fan-out, of one folder; where there are still too many, the
 * rest of each layer.
 * @param open the groups whose tables are drawn apart
 * @param whole layers that are one group each
 */
export function fold({ tables, edges }: Shown, open: ReadonlySet<string>, whole: ReadonlySet<string> = NONE): Folded {
  const members = new Map<string, TableSummary[]>();
  const add = (key: string, table: TableSummary) => members.set(key, [...(members.get(key) ?? []), table]);
  const paths = new Map<string, number>();
  for (const t of tables) paths.set(t.path, (paths.get(t.path) ?? 0) + 1);
  const loose: TableSummary[] = [];
  for (const table of tables) {
    if (whole.has(table.layer)) {
      add(wholeLayer(table.layer), table);
      continue;
    }
    const name = groupName(table, paths.get(table.path)! > 1);
    if (name === undefined) loose.push(table);
    else add(`${table.layer}/${name}`, table);
  }
  for (const [key, list] of members)
    if (list.length === 1) {
      members.delete(key);
      loose.push(list[0]!);
    }
  const byLayer = new Map<string, TableSummary[]>();
  for (const t of loose) byLayer.set(t.layer, [...(byLayer.get(t.layer) ?? []), t]);
  if (loose.length + members.size > MOST_APART)
    for (const [layer, list] of byLayer) if (list.length > 1) for (const t of list) add(`${layer}/`, t);
  const groupOf = new Map([...members].flatMap(([key, list]) => list.map((t) => [t.fullName, key] as const)));
  const idOf = (table: string) => {
    const group = groupOf.get(table);
    return group === undefined || open.has(group) ? table : group;
  };
  const nodes = new Map<string, FoldedNode>();
  for (const table of tables) {
    const id = idOf(table.fullName);
    if (nodes.has(id)) continue;
    const isGroup = id !== table.fullName;
    const group = id.slice(id.indexOf('/') + 1);
    const name = !isGroup ? table.name : group && id !== wholeLayer(table.layer) ? group : `${table.layer} tables`;
    nodes.set(id, { id, layer: table.layer, name, tables: isGroup ? members.get(id)! : [table], isGroup });
  }
  const pairs = new Map<string, readonly [string, string]>();
  for (const [from, to] of edges) {
    const [a, b] = [idOf(from), idOf(to)];
    if (a !== b) pairs.set(`${a} ${b}`, [a, b]);
  }
  return { nodes: [...nodes.values()], edges: [...pairs.values()], groupOf };
}

const NONE: ReadonlySet<string> = new Set();
const wholeLayer = (layer: string) => `${layer}/*`;

/**
 * The layers that have to be one group each for a drawing to be no wider than there is room: the one with the fewest
 * tables that makes it fit; where none does alone, the deepest first. Layers of which somebody opened something stay open.
 * @param widthOf pixels that a drawing takes, and how many ranks each of its layers has
 */
export function layersToFold(
  shown: Shown,
  open: ReadonlySet<string>,
  room: number,
  widthOf: (folded: Folded) => { readonly width: number; readonly ranks: ReadonlyMap<string, number> },
): ReadonlySet<string> {
  const whole = new Set<string>();
  const isOpened = (layer: string) => [...open].some((group) => group.startsWith(`${layer}/`));
  for (;;) {
    const now = widthOf(fold(shown, open, whole));
    if (now.width <= room) return whole;
    const left = [...now.ranks].filter(([layer, ranks]) => ranks > 1 && !isOpened(layer));
    if (left.length === 0) return whole;
    const sizeOf = (layer: string) => shown.tables.filter((t) => t.layer === layer).length;
    const enough = left
      .filter(([layer]) => widthOf(fold(shown, open, new Set([...whole, layer]))).width <= room)
      .sort(([a], [b]) => sizeOf(a) - sizeOf(b));
    const [deepest] = left.sort(([, a], [, b]) => b - a);
    whole.add((enough[0] ?? deepest!)[0]);
  }
}

/** The source, the fan-out or the folder that a table belongs to. */
function groupName(table: TableSummary, isOneOfFile: boolean): string | undefined {
  const parts = table.path.split('/');
  const stem = parts.at(-1)!.replace(/\.sql$/, '');
  if (table.kind === 'source') return stem;
  if (isOneOfFile) return `${stem}, each`;
  return parts.length > 2 ? parts.slice(1, -1).join('/') : undefined;
}
