import type { Definition, Project } from '../model/project.js';
import { type ContractEdit, ContractEditError, editContract } from './contract-edit.js';

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
    const text = edits.length > 0 ? edited(table.path, earlier.files.get(table.path)!.text, edits) : undefined;
    if (text !== undefined) changed.set(table.path, text);
  }
  return changed;
}

/** A text with edits; nothing where its contract cannot be edited: the release says then what it would drop. */
function edited(path: string, text: string, edits: readonly ContractEdit[]): string | undefined {
  try {
    return editContract(path, text, edits);
  } catch (error) {
    if (error instanceof ContractEditError) return undefined;
    throw error;
  }
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
