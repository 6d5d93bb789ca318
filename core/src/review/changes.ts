import { fingerprints } from '../graph/fingerprint.js';
import { reachable, readersOf } from '../graph/graph.js';
import type { Project, Table } from '../project/model.js';

/** What a table of one project is to another one. */
export interface TableChange {
  readonly kind: 'new' | 'changed' | 'downstream' | 'deleted';
  readonly table: string;
  readonly columnsAdded: readonly string[];
  readonly columnsDropped: readonly string[];
  /** Columns that have another type. */
  readonly columnsRetyped: readonly string[];
}

export interface FileChange {
  readonly path: string;
  readonly kind: 'new' | 'changed' | 'deleted';
}

export interface ProjectChange {
  /** Files that differ. */
  readonly files: readonly FileChange[];
  /** Tables whose content differs, in dependency order: changed themselves, or downstream of one. */
  readonly tables: readonly TableChange[];
}

/** Compares two states of a project: what a release from `before` to `after` has to do. */
export function compareProjects(before: Project, after: Project): ProjectChange {
  return { files: fileChanges(before, after), tables: tableChanges(before, after) };
}

function fileChanges(before: Project, after: Project): FileChange[] {
  const paths = [...new Set([...before.files.keys(), ...after.files.keys()])].sort();
  return paths.flatMap((path): FileChange[] => {
    const [a, b] = [before.files.get(path)?.text, after.files.get(path)?.text];
    if (a === b) return [];
    return [{ path, kind: a === undefined ? 'new' : b === undefined ? 'deleted' : 'changed' }];
  });
}

function tableChanges(before: Project, after: Project): TableChange[] {
  const [old, fresh] = [fingerprints(before), fingerprints(after)];
  const differing = after.order.filter((name) => old.get(name) !== fresh.get(name));
  const edited = differing.filter((name) => ownText(before, before.tables.get(name)) !== ownText(after, after.tables.get(name)));
  const readers = readersOf(after.reads);
  const below = new Set(edited.flatMap((name) => [...reachable(readers, [name]).keys()]));
  const columnsOf = (project: Project, name: string) => new Map(project.columns.get(name)?.map((c) => [c.name, c.type]));
  const changes = differing.map((name): TableChange => {
    const isNew = !before.tables.has(name);
    const kind = isNew ? 'new' : edited.includes(name) || !below.has(name) ? 'changed' : 'downstream';
    const [a, b] = [columnsOf(before, name), columnsOf(after, name)];
    return {
      kind,
      table: name,
      columnsAdded: isNew ? [] : [...b.keys()].filter((c) => !a.has(c)),
      columnsDropped: [...a.keys()].filter((c) => !b.has(c)),
      columnsRetyped: [...b].flatMap(([c, type]) => (type !== undefined && (a.get(c) ?? type) !== type ? [c] : [])),
    };
  });
  for (const name of before.tables.keys()) {
    if (!after.tables.has(name))
      changes.push({ kind: 'deleted', table: name, columnsAdded: [], columnsDropped: [...columnsOf(before, name).keys()], columnsRetyped: [] });
  }
  return changes;
}

/** The text that makes a table; for a source table its own statement, since a file declares many. */
function ownText(project: Project, table: Table | undefined): string | undefined {
  if (!table) return undefined;
  const text = project.files.get(table.path)?.text ?? '';
  switch (table.kind) {
    case 'source':
      return text.slice(table.contract.range.start, table.contract.range.end);
    case 'reference':
      return `${text}\n${project.files.get(table.csvPath)?.text ?? ''}`;
    case 'definition':
      return text;
  }
}
