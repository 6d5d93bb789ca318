import type { Project } from '../model/project.js';
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
