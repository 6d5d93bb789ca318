import { postgresql } from '../catalog/catalog.js';
import { typeOfText } from '../catalog/type-names.js';
import type { Column, ProjectFunction } from '../model/project.js';
import type { Around, DeclaredFunction, Relation } from './reader.js';
import { NOTHING } from './value.js';

/** A table's columns as its readers see them, by the list of its columns, which is the same as long as they are. */
const relations = new WeakMap<readonly Column[], Map<string, Relation>>();

/**
 * What is around the queries of a project: its tables and functions, and what every PostgreSQL has.
 * @param columnsOf the columns of a table by its full name; undefined if unknown
 */
export function projectAround(
  columnsOf: (table: string) => readonly Column[] | undefined,
  functions: ReadonlyMap<string, ProjectFunction> = new Map(),
): Around {
  const declared = new Map<string, DeclaredFunction | undefined>();
  return {
    catalog: postgresql(),
    // A table without its layer is an error that is told elsewhere.
    relation: (layer, name) => (layer === undefined ? undefined : relationOf(`${layer}.${name}`, columnsOf)),
    declaredFunction(name) {
      if (!declared.has(name)) declared.set(name, declarationOf(functions.get(name)));
      return declared.get(name);
    },
  };
}

function relationOf(table: string, columnsOf: (table: string) => readonly Column[] | undefined): Relation | undefined {
  const columns = columnsOf(table);
  if (!columns) return undefined;
  let known = relations.get(columns);
  if (!known) relations.set(columns, (known = new Map()));
  let relation = known.get(table);
  if (!relation) known.set(table, (relation = read(table, columns)));
  return relation;
}

const read = (table: string, columns: readonly Column[]): Relation => ({
  fields: columns.map((c) => ({
    name: c.name,
    type: c.type === undefined ? undefined : typeOfText(c.type),
    value: [`${table}.${c.name}`],
    influence: NOTHING,
    kind: 'copied',
  })),
  rows: [`${table}.*`],
  rowType: table,
});

function declarationOf(f: ProjectFunction | undefined): DeclaredFunction | undefined {
  if (!f) return undefined;
  return {
    result: f.returns === undefined ? undefined : typeOfText(f.returns),
    returnsSet: f.returnsSet,
    columns: f.columns.map((c) => ({ name: c.name, type: typeOfText(c.type) })),
  };
}
