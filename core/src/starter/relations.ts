import type { Project, Table } from '../model/project.js';

/** How rows of one table find rows of another. */
export interface Relation {
  readonly from: string;
  readonly fromColumns: readonly string[];
  readonly to: string;
  readonly toColumns: readonly string[];
  /** Said by a foreign key of a contract or source; else guessed from names and types, or from values. */
  readonly declared: boolean;
  /** Of a guess from values: the share of the values looked at that the other side has, 0 to 1. */
  readonly share?: number;
  /** True where the other side's columns are its key: at most one row is found. */
  readonly toOne: boolean;
}

/** Columns that a table's contract says are unique. */
function keysOf(table: Table): readonly (readonly string[])[] {
  return (table.contract?.constraints ?? [])
    .filter((c) => c.kind === 'primary key' || c.kind === 'unique')
    .map((c) => c.columns);
}

const sameColumns = (a: readonly string[], b: readonly string[]) =>
  a.length === b.length && a.every((c) => b.includes(c));

/**
 * All relations between the tables of a project, as seen from the side that refers: declared ones,
 * and guesses where a column has the name and type of another table's one-column key in the same layer.
 */
export function relationsOf(project: Project): Relation[] {
  const tables = [...project.tables.values()];
  const found: Relation[] = [];
  for (const table of tables) {
    for (const constraint of table.contract?.constraints ?? []) {
      if (!constraint.references) continue;
      const other = project.tables.get(constraint.references.table);
      if (!other) continue;
      const key = keysOf(other)[0];
      const toColumns = constraint.references.columns.length
        ? constraint.references.columns
        : (key ?? constraint.columns);
      const toOne = keysOf(other).some((k) => sameColumns(k, toColumns));
      found.push({
        from: table.fullName,
        fromColumns: constraint.columns,
        to: other.fullName,
        toColumns,
        declared: true,
        toOne,
      });
    }
  }
  return [...found, ...guesses(project, tables, found)];
}

function guesses(project: Project, tables: readonly Table[], declared: readonly Relation[]): Relation[] {
  const guessed: Relation[] = [];
  for (const other of tables) {
    const key = keysOf(other).find((k) => k.length === 1)?.[0];
    // A key called id or code says nothing about what it is the key of.
    if (key === undefined || key.length < 4) continue;
    const type = project.columns.get(other.fullName)?.find((c) => c.name === key)?.type;
    for (const table of tables) {
      if (table === other || table.layer !== other.layer) continue;
      for (const column of project.columns.get(table.fullName) ?? []) {
        if (column.type !== type || !(column.name === key || column.name.endsWith(`_${key}`))) continue;
        if (keysOf(table).some((k) => sameColumns(k, [column.name]))) continue;
        const known = declared.some(
          (r) => r.from === table.fullName && r.to === other.fullName && r.fromColumns.includes(column.name),
        );
        if (!known)
          guessed.push({
            from: table.fullName,
            fromColumns: [column.name],
            to: other.fullName,
            toColumns: [key],
            declared: false,
            toOne: true,
          });
      }
    }
  }
  return guessed;
}

/** A relation as a step from one of its sides to the other: its `from` may be either. */
export type Step = Relation;

/** The steps that lead away from a table: to what it refers to, and back to what refers to it. */
export function stepsFrom(relations: readonly Relation[], table: string): Step[] {
  return relations.flatMap((r): Step[] => [
    ...(r.from === table ? [r] : []),
    ...(r.to === table
      ? [{ ...r, from: r.to, fromColumns: r.toColumns, to: r.from, toColumns: r.fromColumns, toOne: false }]
      : []),
  ]);
}
