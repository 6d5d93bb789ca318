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
 */
export function fold({ tables, edges }: Shown, open: ReadonlySet<string>): Folded {
  const members = new Map<string, TableSummary[]>();
  const add = (key: string, table: TableSummary) => members.set(key, [...(members.get(key) ?? []), table]);
  const paths = new Map<string, number>();
  for (const t of tables) paths.set(t.path, (paths.get(t.path) ?? 0) + 1);
  const loose: TableSummary[] = [];
  for (const table of tables) {
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
    const name = isGroup ? id.slice(id.indexOf('/') + 1) || `${table.layer} tables` : table.name;
    nodes.set(id, { id, layer: table.layer, name, tables: isGroup ? members.get(id)! : [table], isGroup });
  }
  const pairs = new Map<string, readonly [string, string]>();
  for (const [from, to] of edges) {
    const [a, b] = [idOf(from), idOf(to)];
    if (a !== b) pairs.set(`${a} ${b}`, [a, b]);
  }
  return { nodes: [...nodes.values()], edges: [...pairs.values()], groupOf };
}

/** The source, the fan-out or the folder that a table belongs to. */
function groupName(table: TableSummary, isOneOfFile: boolean): string | undefined {
  const parts = table.path.split('/');
  const stem = parts.at(-1)!.replace(/\.sql$/, '');
  if (table.kind === 'source') return stem;
  if (isOneOfFile) return `${stem}, each`;
  return parts.length > 2 ? parts.slice(1, -1).join('/') : undefined;
}
