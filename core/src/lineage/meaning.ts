import { optionOf } from '../language/contract.js';
import type { Project, Table } from '../model/project.js';
import { columnId, partsOfId } from './edges.js';
import { untouchedWay } from './trace.js';

/** A description, and the column at which it is written. */
export interface Description {
  readonly text: string;
  readonly from: string;
}

/** What is written of a column at its own table. */
function writtenOf(project: Project, id: string): string | undefined {
  const { table, column } = partsOfId(project, id);
  const found = project.tables.get(table);
  return (
    found?.contract?.columns.find((c) => c.name === column)?.comment ??
    (found?.kind === 'definition' ? found.columnComments.get(column) : undefined)
  );
}

/** What a column means: as it is described itself, or as the column is whose values it has unchanged. */
export function descriptionOf(project: Project, id: string): Description | undefined {
  for (const from of untouchedWay(project, id)) {
    const text = writtenOf(project, from);
    if (text !== undefined) return { text, from };
  }
  return undefined;
}

/** An owner, and the table that names it. */
export interface CarriedOwner {
  readonly owner: string;
  readonly from: string;
}

/** Of a table that names no owner: those of the tables whose columns it has unchanged, each once, the most columns first. */
export function carriedOwners(project: Project, table: Table): readonly CarriedOwner[] {
  if (ownerOf(table) !== undefined) return [];
  const found = new Map<string, CarriedOwner & { columns: number }>();
  for (const { name } of project.columns.get(table.fullName) ?? []) {
    for (const id of untouchedWay(project, columnId(table.fullName, name)).slice(1)) {
      const from = partsOfId(project, id).table;
      const owner = ownerOf(project.tables.get(from));
      if (owner === undefined) continue;
      found.set(owner, { owner, from: found.get(owner)?.from ?? from, columns: (found.get(owner)?.columns ?? 0) + 1 });
      break;
    }
  }
  return [...found.values()].sort((a, b) => b.columns - a.columns).map(({ owner, from }) => ({ owner, from }));
}

const ownerOf = (table: Table | undefined) => (table?.kind === 'definition' ? optionOf(table, 'owner') : undefined);

/** How many columns of a layer say what they mean. */
export interface Coverage {
  readonly layer: string;
  readonly described: number;
  /** Described where their values come from. */
  readonly carried: number;
  readonly missing: readonly { readonly table: string; readonly column: string }[];
}

/** Which columns of each layer are described, carry a description, or have none. */
export function coverage(project: Project): readonly Coverage[] {
  return project.layers.flatMap(({ name: layer }) => {
    const missing: { table: string; column: string }[] = [];
    let [described, carried] = [0, 0];
    for (const table of project.tables.values()) {
      if (table.layer !== layer) continue;
      for (const { name } of project.columns.get(table.fullName) ?? []) {
        const id = columnId(table.fullName, name);
        const found = descriptionOf(project, id);
        if (!found) missing.push({ table: table.fullName, column: name });
        else if (found.from === id) described++;
        else carried++;
      }
    }
    return described + carried + missing.length ? [{ layer, described, carried, missing }] : [];
  });
}
