import { projectAround } from '../columns/around.js';
import { resolveColumns } from '../columns/columns.js';
import type { Project } from '../model/project.js';
import { columnId } from './edges.js';
import { lineageOf } from './graph.js';

/** What nothing in the project uses: perhaps it is for people and programs outside, perhaps for nobody. */
export interface Unread {
  readonly tables: readonly string[];
  /** Of tables that something reads: columns that nothing takes. */
  readonly columns: readonly { readonly table: string; readonly column: string }[];
}

/** Tables and columns that no table and no check reads. */
export function unread(project: Project): Unread {
  const lineage = lineageOf(project);
  const read = new Set([...project.reads.values()].flat());
  const around = projectAround((name) => project.columns.get(name), project.functions);
  const inChecks = new Set<string>();
  for (const { query } of project.checks.values()) {
    for (const { layer, name } of query.tables) read.add(`${layer ?? ''}.${name}`);
    const { columns, rows } = resolveColumns(query.select, around);
    for (const id of [...(columns ?? []).flatMap((c) => [...c.origins, ...c.influence]), ...rows]) inChecks.add(id);
  }
  const tables = [...project.tables.keys()].filter((t) => !read.has(t));
  const columns = [...project.tables.values()].flatMap(({ fullName, contract }) => {
    if (!read.has(fullName)) return [];
    // What constraints name is used by checks.
    const checked = new Set(contract?.constraints.flatMap((c) => c.columns));
    return (project.columns.get(fullName) ?? []).flatMap(({ name }) => {
      const id = columnId(fullName, name);
      const { value, influence, rows } = lineage.fed(id);
      const isUsed = value.length + influence.length + rows.length > 0 || checked.has(name) || inChecks.has(id);
      return isUsed ? [] : [{ table: fullName, column: name }];
    });
  });
  return { tables, columns };
}
