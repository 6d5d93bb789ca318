import { fingerprints } from '../graph/fingerprint.js';
import { reachable, readersOf } from '../graph/graph.js';
import type { Project, Table } from '../model/project.js';
import { didYouMean } from '../sql/nearest.js';
import type { Range } from '../sql/positions.js';

/** What a table of one project is to another one. */
export interface TableChange {
  readonly kind: 'new' | 'renamed' | 'changed' | 'downstream' | 'deleted';
  readonly table: string;
  /** Of a renamed table: its former name. */
  readonly was?: string;
  readonly columnsAdded: readonly string[];
  readonly columnsDropped: readonly string[];
  /** Columns that bear another name: neither added nor dropped. */
  readonly columnsRenamed: readonly { readonly was: string; readonly now: string }[];
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
  const edited = differing.filter(
    (name) => ownText(before, before.tables.get(name)) !== ownText(after, after.tables.get(name)),
  );
  const renamed = renamedTables(before, after);
  const readers = readersOf(after.reads);
  const below = new Set(edited.flatMap((name) => [...reachable(readers, [name]).keys()]));
  const columnsOf = (project: Project, name: string) =>
    new Map(project.columns.get(name)?.map((c) => [c.name, c.type]));
  const changes = differing.map((name): TableChange => {
    const was = renamed.get(name);
    const isNew = !before.tables.has(name) && was === undefined;
    const kind =
      was !== undefined
        ? 'renamed'
        : isNew
          ? 'new'
          : edited.includes(name) || !below.has(name)
            ? 'changed'
            : 'downstream';
    const [a, b] = [columnsOf(before, was ?? name), columnsOf(after, name)];
    const columnsRenamed = renamedColumns(after.tables.get(name), a, b);
    return {
      kind,
      table: name,
      ...(was === undefined ? {} : { was }),
      columnsAdded: isNew ? [] : [...b.keys()].filter((c) => !a.has(c) && !columnsRenamed.some((r) => r.now === c)),
      columnsDropped: [...a.keys()].filter((c) => !b.has(c) && !columnsRenamed.some((r) => r.was === c)),
      columnsRenamed,
      columnsRetyped: [...b].flatMap(([c, type]) =>
        type !== undefined && (a.get(columnsRenamed.find((r) => r.now === c)?.was ?? c) ?? type) !== type ? [c] : [],
      ),
    };
  });
  const moved = new Set(renamed.values());
  for (const name of before.tables.keys()) {
    if (!after.tables.has(name) && !moved.has(name))
      changes.push({
        kind: 'deleted',
        table: name,
        columnsAdded: [],
        columnsDropped: [...columnsOf(before, name).keys()],
        columnsRenamed: [],
        columnsRetyped: [],
      });
  }
  return changes;
}

type ColumnTypes = ReadonlyMap<string, string | undefined>;

/** Columns of a table that bear another name than before: `was` in their options. */
function renamedColumns(
  table: Table | undefined,
  before: ColumnTypes,
  after: ColumnTypes,
): TableChange['columnsRenamed'] {
  if (table?.kind !== 'definition') return [];
  return (table.contract?.columns ?? []).flatMap(({ name, options }) => {
    const was = options['was'];
    return was !== undefined && before.has(was) && !before.has(name) && !after.has(was) ? [{ was, now: name }] : [];
  });
}

/** Tables that bear another name than before, by the new one: `was = 'core.old_name'` in their options. */
export function renamedTables(before: Project, after: Project): Map<string, string> {
  const found = new Map<string, string>();
  for (const table of after.tables.values()) {
    const was = formerName(table);
    if (
      was === undefined ||
      before.tables.has(table.fullName) ||
      after.tables.has(was) ||
      before.tables.get(was)?.kind !== 'definition'
    )
      continue;
    if (![...found.values()].includes(was)) found.set(table.fullName, was);
  }
  return found;
}

/** The name that a definition says its table had. */
export const formerName = (table: Table): string | undefined =>
  table.kind === 'definition' && !table.each ? table.contract?.options.get('was')?.value.trim() : undefined;

/**
 * Tables whose former name is none of the tables that stand, and which do not stand under their own name either.
 * @returns messages with the nearest right names
 */
export function wrongFormerNames(
  standing: Project,
  after: Project,
): {
  readonly table: string;
  readonly path: string;
  readonly range: Range;
  readonly message: string;
  readonly hint: string;
}[] {
  return [...after.tables.values()].flatMap((table) => {
    const was = formerName(table);
    if (was === undefined || standing.tables.has(table.fullName)) return [];
    const at = {
      table: table.fullName,
      path: table.path,
      range: (table.kind === 'definition' && table.contract?.options.get('was')?.range) || table.nameRange,
    };
    if (after.tables.has(was))
      return [
        {
          ...at,
          message: `option was: ${was} still is a table of the project`,
          hint: 'delete its definition, or leave the option out',
        },
      ];
    if (standing.tables.get(was)?.kind === 'definition') return [];
    const names = [...standing.tables.values()].filter((t) => t.kind === 'definition').map((t) => t.fullName);
    return [
      {
        ...at,
        message: `option was: production has no table ${was}`,
        hint: didYouMean(was, names) ?? 'leave the option out for a new table',
      },
    ];
  });
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
