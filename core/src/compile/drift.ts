import { specOf } from '../language/spec.js';
import type { ColumnDeclaration, Definition, Project } from '../model/project.js';

/** A column of a query that no contract declares. */
export interface DriftColumn {
  readonly name: string;
  /** Undefined where only the database knows it. */
  readonly type?: string | undefined;
}

/** New columns of the query that the table adopts: those that its contract lacks, with drift = add. */
export function driftColumns(project: Project, table: Definition): readonly DriftColumn[] {
  if (!table.contract || !specOf(table).addsDrift) return [];
  const declared = new Set(table.contract.columns.map((c) => c.name));
  return (project.columns.get(table.fullName) ?? []).filter((c) => !declared.has(c.name));
}

/** Drift columns whose types only the database knows. */
export const untypedDrift = (project: Project, table: Definition): readonly string[] =>
  driftColumns(project, table).flatMap((c) => (c.type === undefined ? [c.name] : []));

/**
 * A table with the columns that its query has and its contract lacks.
 * @param types of columns whose type the project does not say
 * @throws Error where a type is not known
 */
export function withDrift(
  project: Project,
  table: Definition,
  types: ReadonlyMap<string, string> = new Map(),
): Definition {
  const added = driftColumns(project, table).map((c): ColumnDeclaration => {
    const type = c.type ?? types.get(c.name);
    if (type === undefined) throw new Error(`${table.fullName}: the type of ${c.name} is not known`);
    return { name: c.name, type, notNull: false, options: {}, range: table.nameRange };
  });
  return added.length
    ? { ...table, contract: { ...table.contract!, columns: [...table.contract!.columns, ...added] } }
    : table;
}
