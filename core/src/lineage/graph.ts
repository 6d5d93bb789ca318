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
  let reverse: ReadonlyMap<string, Fed> | undefined;
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
    fed: (id) => (reverse ??= reversed(project)).get(id) ?? NOTHING_FED,
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

function reversed(project: Project): ReadonlyMap<string, Fed> {
  const fed = new Map<string, { value: string[]; influence: string[]; rows: string[] }>();
  const at = (id: string) => {
    let entry = fed.get(id);
    if (!entry) fed.set(id, (entry = { value: [], influence: [], rows: [] }));
    return entry;
  };
  for (const table of project.tables.values()) {
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
