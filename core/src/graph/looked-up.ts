import { lookedUpTable, isLookUp, columnOption } from '../language/contract.js';
import type { ColumnDeclaration, Project } from '../model/project.js';
/** Tables in which look-ups that satisfy a condition look; found once a project. */
function tablesLookedUp(condition: (column: ColumnDeclaration) => boolean): (project: Project) => ReadonlySet<string> {
  const known = new WeakMap<Project, ReadonlySet<string>>();
  return (project) => {
    const before = known.get(project);
    if (before) return before;
    const found = new Set<string>();
    for (const table of project.tables.values()) {
      if (table.kind !== 'definition') continue;
      for (const column of table.contract?.columns ?? []) {
        const other = !isLookUp(column) || !condition(column) ? undefined : lookedUpTable(table, column.name);
        if (other !== undefined) found.add(other);
      }
    }
    known.set(project, found);
    return found;
  };
}

/** Tables in which some contract looks keys up. */
export const lookedUpTables = tablesLookedUp(() => true);

/** Tables in which some contract has placeholders made. */
export const inferredTables = tablesLookedUp((c) => columnOption(c, 'missing') === 'infer');
