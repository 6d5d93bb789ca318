import { columnOption, isLookUp, optionOf } from '../language/contract.js';
import type { Column, Definition, Project, Table } from '../model/project.js';
import { columnId, edgesOf, partsOfId, rowsId, type ColumnEdges } from './edges.js';

/** What a column gives and influences directly. */
export interface Fed {
  /** Columns whose value it gives. */
  readonly value: readonly string[];
  /** Columns that it influences alone. */
  readonly influence: readonly string[];
  /** Tables whose rows it decides. */
  readonly rows: readonly string[];
}

/** The columns of a project, and what is before and behind each. */
export interface Lineage {
  readonly project: Project;
  /** What is before a column; undefined where there is none of that name. */
  edges(id: string): ColumnEdges | undefined;
  /** What decides which rows a table has: columns, and the rows of tables. */
  rows(table: string): readonly string[];
  fed(id: string): Fed;
}

interface TableLineage {
  readonly edges: ReadonlyMap<string, ColumnEdges>;
  readonly rows: readonly string[];
}

/** Of a table as it was resolved; its columns are the same list as long as nothing of it changes. */
const ofTables = new WeakMap<readonly Column[], { readonly table: Table; readonly lineage: TableLineage }>();
const ofProjects = new WeakMap<Project, Lineage>();
const NOTHING_FED: Fed = { value: [], influence: [], rows: [] };
const NO_ROWS: readonly string[] = [];

/** The lineage of a project; tables that an edit has not touched are not read again. */
export function lineageOf(project: Project): Lineage {
  const known = ofProjects.get(project);
  if (known) return known;
  let fed: ((id: string) => Fed) | undefined;
  const lineage: Lineage = {
    project,
    edges(id) {
      const { table, column } = partsOfId(project, id);
      const found = project.tables.get(table);
      return found && tableLineage(project, found).edges.get(column);
    },
    rows(table) {
      const found = project.tables.get(table);
      return found ? tableLineage(project, found).rows : NO_ROWS;
    },
    fed: (id) => (fed ??= fedIn(project))(id),
  };
  ofProjects.set(project, lineage);
  return lineage;
}

function tableLineage(project: Project, table: Table): TableLineage {
  const columns = project.columns.get(table.fullName);
  const known = columns && ofTables.get(columns);
  // What is looked up is told by the contracts of others, which may have changed meanwhile.
  const isAlone = !table.contract?.columns.some(isLookUp) && !placeholders(project).has(table.fullName);
  if (known?.table === table && isAlone) return known.lineage;
  const lineage = { edges: edgesOf(project, table), rows: rowsOf(project, table) };
  if (columns) ofTables.set(columns, { table, lineage });
  return lineage;
}

function rowsOf(project: Project, table: Table): readonly string[] {
  const ofQuery = project.rows.get(table.fullName) ?? NO_ROWS;
  if (table.kind !== 'definition') return ofQuery;
  const list = optionOf(table, 'for_each');
  const inferred = inferredFrom(project, table);
  const more = [...(list === undefined ? [] : [rowsId(list)]), ...inferred];
  return more.length ? [...new Set([...ofQuery, ...more])] : ofQuery;
}

/** Columns of facts whose unknown keys become placeholders of a dimension. */
function inferredFrom(project: Project, dimension: Definition): readonly string[] {
  return (placeholders(project).get(dimension.fullName) ?? []).flatMap(([fact, column]) => {
    const table = project.tables.get(fact);
    return table
      ? (edgesOf(project, table)
          .get(column)
          ?.value.filter((id) => !isOf(id, dimension)) ?? [])
      : [];
  });
}
const isOf = (id: string, { fullName }: Table) => id.startsWith(`${fullName}.`);

const known = new WeakMap<Project, ReadonlyMap<string, readonly (readonly [string, string])[]>>();
function placeholders(project: Project): ReadonlyMap<string, readonly (readonly [string, string])[]> {
  const before = known.get(project);
  if (before) return before;
  const found = new Map<string, (readonly [string, string])[]>();
  for (const table of project.tables.values())
    for (const column of table.kind === 'definition' ? (table.contract?.columns ?? []) : []) {
      if (columnOption(column, 'missing') !== 'infer') continue;
      const constraint = table.contract!.constraints.find(
        (c) => c.kind === 'references' && c.columns[0] === column.name,
      );
      const dimension = constraint?.references?.table;
      if (dimension !== undefined)
        found.set(dimension, [...(found.get(dimension) ?? []), [table.fullName, column.name]]);
    }
  known.set(project, found);
  return found;
}

/** What each column feeds, of all tables of a project. */
interface Reverse {
  readonly tables: ReadonlyMap<string, TableLineage>;
  readonly fed: ReadonlyMap<string, Fed>;
}

const reverses = new WeakMap<Project, Reverse>();
/** The last project that was turned round as a whole: most others differ from it in a table or two. */
let last: WeakRef<Project> | undefined;
/** With more that differ, turning all round costs no more. */
const MOST_CHANGED = 200;

/** What columns feed: as in the project that was turned round last, but for the tables that differ from it. */
function fedIn(project: Project): (id: string) => Fed {
  const base = last?.deref();
  const reverse = base && reverses.get(base);
  const changed = reverse && changedSince(project, reverse);
  if (!reverse || !changed || changed.size > MOST_CHANGED) {
    const whole = reversed(project);
    reverses.set(project, whole);
    last = new WeakRef(project);
    return (id) => whole.fed.get(id) ?? NOTHING_FED;
  }
  const fresh = turnedRound(
    project,
    [...changed].filter((name) => project.tables.has(name)),
  );
  const prefixes = [...changed].map((name) => `${name}.`);
  const isOld = (id: string) => prefixes.some((p) => id.startsWith(p));
  return (id) => {
    const [before, now] = [reverse.fed.get(id) ?? NOTHING_FED, fresh.get(id) ?? NOTHING_FED];
    if (changed.size === 0) return before;
    return {
      value: [...before.value.filter((c) => !isOld(c)), ...now.value],
      influence: [...before.influence.filter((c) => !isOld(c)), ...now.influence],
      rows: [...before.rows.filter((t) => !changed.has(t)), ...now.rows],
    };
  };
}

/** The tables whose columns come from elsewhere than they did. */
function changedSince(project: Project, { tables }: Reverse): ReadonlySet<string> {
  const changed = new Set<string>();
  for (const [name, table] of project.tables) {
    const [before, now] = [tables.get(name), tableLineage(project, table)];
    if (!before || (before !== now && !isSame(before, now))) changed.add(name);
  }
  if (project.tables.size !== tables.size || changed.size)
    for (const name of tables.keys()) if (!project.tables.has(name)) changed.add(name);
  return changed;
}

const isSame = (a: TableLineage, b: TableLineage): boolean =>
  a.edges.size === b.edges.size &&
  a.rows.join() === b.rows.join() &&
  [...a.edges].every(([column, { value, influence }]) => {
    const other = b.edges.get(column);
    return other !== undefined && value.join() === other.value.join() && influence.join() === other.influence.join();
  });

function reversed(project: Project): Reverse {
  const tables = new Map([...project.tables].map(([name, table]) => [name, tableLineage(project, table)]));
  return { tables, fed: turnedRound(project, project.tables.keys()) };
}

function turnedRound(project: Project, names: Iterable<string>): ReadonlyMap<string, Fed> {
  const fed = new Map<string, { value: string[]; influence: string[]; rows: string[] }>();
  const at = (id: string) => {
    let entry = fed.get(id);
    if (!entry) fed.set(id, (entry = { value: [], influence: [], rows: [] }));
    return entry;
  };
  for (const name of names) {
    const table = project.tables.get(name)!;
    const { edges, rows } = tableLineage(project, table);
    for (const [column, { value, influence }] of edges) {
      const id = columnId(table.fullName, column);
      for (const origin of value) at(origin).value.push(id);
      for (const origin of influence) at(origin).influence.push(id);
    }
    for (const origin of rows) at(origin).rows.push(table.fullName);
  }
  return fed;
}
