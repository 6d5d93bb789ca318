import { csvField, headerFields } from '../index/csv.js';
import { examplePath } from '../index/example-file.js';
import type { ExampleFile, Project } from '../model/project.js';
import type { RenameEdits, Renaming } from './rename-edits.js';

/** The names of tables after a renaming of a table or of a layer. */
const tableNamed =
  (renaming: Renaming) =>
  (name: string): string => {
    if (renaming.kind === 'table') return name === renaming.table ? renaming.to : name;
    if (renaming.kind !== 'layer') return name;
    const [layer, table] = name.split('.');
    return layer === renaming.layer ? `${renaming.to}.${table}` : name;
  };

const filesOf = (project: Project): readonly ExampleFile[] =>
  [...project.examples.values()].flatMap((examples) => examples.flatMap((e) => e.files));

/** Worked examples follow what is renamed: their files bear names of tables, their headers those of columns and parameters. */
export function renameInExamples(project: Project, renaming: Renaming, edits: RenameEdits): void {
  const named = tableNamed(renaming);
  for (const file of filesOf(project)) {
    const { part, path } = file;
    const now = {
      table: named(file.table),
      part: part.kind === 'input' || part.kind === 'member' ? { ...part, table: named(part.table) } : part,
    };
    const isNumbered = /^\d+\./.test(path.slice(path.lastIndexOf('/') + 1));
    const moved = examplePath({ ...file, table: now.table }, now.part, isNumbered ? 'several' : 'one');
    if (moved !== path) edits.moved.set(path, moved);
    const column = columnIn(project, file, renaming, edits);
    if (column === undefined || renaming.kind === 'table') continue;
    const at = file.header.indexOf(column);
    const field = headerFields(project.files.get(path)!.text)[at];
    if (field) edits.add(path, { ...field, text: csvField(renaming.to) });
  }
}

/** The column of an example's file that a renaming is about. */
function columnIn(project: Project, file: ExampleFile, renaming: Renaming, edits: RenameEdits): string | undefined {
  const { part } = file;
  if (renaming.kind === 'parameter') return part.kind === 'params' ? renaming.name : undefined;
  if (renaming.kind !== 'column') return undefined;
  switch (part.kind) {
    case 'params':
      return undefined;
    case 'each': {
      const list = [...project.tables.values()].find((t) => t.kind === 'definition' && t.each?.declared === file.table);
      return list?.kind === 'definition' && edits.renamed.has(list.each!.list) ? renaming.column : undefined;
    }
    case 'input':
    case 'member':
      return edits.renamed.has(part.table) ? renaming.column : undefined;
    default:
      return [...edits.renamed].some((t) => isOf(project, t, file.table)) ? renaming.column : undefined;
  }
}

/** Whether a table is the one that examples of a name are about. */
function isOf(project: Project, table: string, name: string): boolean {
  const found = project.tables.get(table);
  return table === name || (found?.kind === 'definition' && found.each?.declared === name);
}
