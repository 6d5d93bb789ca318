import type { ContractSurroundings } from './surroundings.js';
import { constraintDiagnostics } from './constraints.js';
import { namedConstraints } from './named-constraints.js';
import { columnsAgainstQuery } from './columns-against-query.js';
import { leftDiagnostics } from './left-to-database.js';
import { startOf } from '../columns.js';
import type { Diagnostic } from '../../../model/diagnostic.js';
import type { Column, Definition } from '../../../model/project.js';

/** The contract held against the query: columns missing on either side, columns of constraints, types that narrow. */
export function contractDiagnostics(
  table: Definition,
  columns: readonly Column[] | undefined,
  around: ContractSurroundings,
): Diagnostic[] {
  const { contract } = table;
  if (!contract) return [];
  const declared = contract.columns.map((c) => c.name);
  const found = columns && table.query ? columnsAgainstQuery(table, columns, startOf(around.file, table.query)) : [];
  for (const constraint of contract.constraints)
    found.push(...constraintDiagnostics(table, constraint, declared, around));
  found.push(...namedConstraints(table, contract), ...leftDiagnostics(table, contract));
  return found;
}
