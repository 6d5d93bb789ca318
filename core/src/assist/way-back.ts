import type { Definition, Project } from '../model/project.js';
import { type ContractEdit, editContract } from './contract-edit.js';

/**
 * What an earlier state of the project says more, so that a release of it moves the rows of what has been renamed since:
 * `was` names what the table or column is called now.
 * @param earlier what is gone back to
 * @param now what production runs
 * @returns the texts of files that change, by path
 */
export function formerNamesBack(earlier: Project, now: Project): Map<string, string> {
  const changed = new Map<string, string>();
  for (const table of earlier.tables.values()) {
    if (table.kind !== 'definition' || !table.contract || table.each) continue;
    const renamed = now.tables.has(table.fullName) ? undefined : renamedSince(table, earlier, now);
    const later = now.tables.get(renamed ?? table.fullName);
    if (later?.kind !== 'definition' || !later.contract) continue;
    const edits: ContractEdit[] =
      renamed === undefined ? [] : [{ kind: 'table option', option: 'was', value: renamed }];
    const has = (of: Definition, column: string) => of.contract!.columns.some((c) => c.name === column);
    for (const { name, options } of later.contract.columns)
      if (
        options['was'] !== undefined &&
        !has(later, options['was']) &&
        !has(table, name) &&
        has(table, options['was'])
      )
        edits.push({ kind: 'column option', column: options['was'], option: 'was', value: name });
    if (edits.length) changed.set(table.path, editContract(table.path, earlier.files.get(table.path)!.text, edits));
  }
  return changed;
}

/** What a table is called now that bears another name than it did. */
function renamedSince({ fullName }: Definition, earlier: Project, now: Project): string | undefined {
  const later = [...now.tables.values()].find(
    (t) =>
      t.kind === 'definition' &&
      !t.each &&
      t.contract?.options.get('was')?.value.trim() === fullName &&
      !earlier.tables.has(t.fullName),
  );
  return later?.fullName;
}
