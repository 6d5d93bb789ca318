import { projectAround } from '../columns/around.js';
import { resolveColumns } from '../columns/columns.js';
import { columnOption, isFilled, isLookUp, lookedUpTable, namesIn } from '../language/contract.js';
import { columnWith } from '../language/roles.js';
import type { Column, Definition, EdgeKind, Project, Table } from '../model/project.js';

/** What becomes of a value on its way into a column; of a table's own columns also who fills them. */
export type WayKind = EdgeKind | 'looked up' | 'filled' | 'given';

/** What is directly before a column of a table. Columns are `layer.table.column`, rows of a table `layer.table.*`. */
export interface ColumnEdges {
  readonly kind: WayKind;
  readonly value: readonly string[];
  /** Of this column alone; what decides which rows the table has is the table's. */
  readonly influence: readonly string[];
}

export const columnId = (table: string, column: string): string => `${table}.${column}`;
export const rowsId = (table: string): string => `${table}.*`;

/** The table and the column of an id; the column of rows is `*`. */
export function partsOfId(project: Project, id: string): { readonly table: string; readonly column: string } {
  // Names may hold dots: the longest table's name that it begins with.
  for (let dot = id.lastIndexOf('.'); dot > 0; dot = id.lastIndexOf('.', dot - 1)) {
    const table = id.slice(0, dot);
    if (project.tables.has(table)) return { table, column: id.slice(dot + 1) };
  }
  const dot = id.lastIndexOf('.');
  return { table: id.slice(0, dot), column: id.slice(dot + 1) };
}

/** What is before each column of a table: of its query, and of what its load adds. */
export function edgesOf(project: Project, table: Table): ReadonlyMap<string, ColumnEdges> {
  const columns = project.columns.get(table.fullName) ?? [];
  if (table.kind !== 'definition') return new Map(columns.map((c) => [c.name, GIVEN]));
  const ofQuery = new Map(columns.map((c) => [c.name, c]));
  const lookUps = table.contract?.columns.filter(isLookUp) ?? [];
  if (lookUps.length) for (const c of queryColumns(project, table)) ofQuery.set(c.name, c);
  const edges = new Map<string, ColumnEdges>();
  for (const column of columns) {
    const declared = table.contract?.columns.find((c) => c.name === column.name);
    const { origins, influence, kind } = column;
    if (!declared || !isFilled(declared)) edges.set(column.name, { kind, value: origins, influence });
    else if (isLookUp(declared)) edges.set(column.name, lookedUp(project, table, column.name, ofQuery));
    else edges.set(column.name, filled(table, column.name, ofQuery));
  }
  return edges;
}

const GIVEN: ColumnEdges = { kind: 'given', value: [], influence: [] };

function queryColumns(project: Project, table: Definition): readonly Column[] {
  if (!table.query) return [];
  const around = projectAround((name) => project.columns.get(name), project.functions);
  return resolveColumns(table.query.select, around).columns ?? [];
}

/** A key that is looked up: by its business keys and the time, in a dimension whose validity picks the version. */
function lookedUp(
  project: Project,
  table: Definition,
  column: string,
  ofQuery: ReadonlyMap<string, Column>,
): ColumnEdges {
  const declared = table.contract!.columns.find((c) => c.name === column)!;
  const by = [...namesIn(columnOption(declared, 'looked_up_by')), ...namesIn(columnOption(declared, 'at'))];
  const asked = by.flatMap((name) => ofQuery.get(name) ?? []);
  const dimension = project.tables.get(lookedUpTable(table, column) ?? '');
  const contract = dimension?.contract;
  const constraint = table.contract!.constraints.find((c) => c.kind === 'references' && c.columns[0] === column);
  const key = constraint?.references?.columns[0] ?? (contract && columnWith(contract, 'surrogate key'));
  const validity = contract
    ? (['valid from', 'valid to'] as const).flatMap((role) => columnWith(contract, role) ?? [])
    : [];
  const of = (name: string) => columnId(dimension!.fullName, name);
  return {
    kind: 'looked up',
    value: [...new Set([...asked.flatMap((c) => c.origins), ...(dimension && key !== undefined ? [of(key)] : [])])],
    influence: [
      ...new Set([
        ...asked.flatMap((c) => c.influence),
        ...validity.map(of),
        ...(dimension ? [rowsId(dimension.fullName)] : []),
      ]),
    ],
  };
}

/** A column that the load fills: with the value before the last change of another one, or by its role. */
function filled(table: Definition, column: string, ofQuery: ReadonlyMap<string, Column>): ColumnEdges {
  const declared = table.contract!.columns.find((c) => c.name === column)!;
  const of = columnOption(declared, 'previous_of');
  const given = of === undefined ? undefined : ofQuery.get(of);
  return { kind: 'filled', value: given?.origins ?? [], influence: given?.influence ?? [] };
}
