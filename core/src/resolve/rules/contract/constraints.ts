import { resolveExpression } from '../../../columns/columns.js';
import { constraintLacksColumn, referencedLacks, referencesNothing, unknownInConstraint } from './messages.js';
import { constraintRange } from '../../../index/contract.js';
import { errorAt, type Diagnostic, type Finding } from '../../../model/diagnostic.js';
import type { ContractSurroundings } from './surroundings.js';
import type { Definition, ConstraintDeclaration } from '../../../model/project.js';

/** Columns and tables of a constraint that are not there. */
export function constraintDiagnostics(
  table: Definition,
  constraint: ConstraintDeclaration,
  names: readonly string[],
  around: ContractSurroundings,
): readonly Diagnostic[] {
  const found: Diagnostic[] = [];
  const report = (finding: Finding) =>
    found.push(errorAt({ path: table.path, range: constraintRange(around.file.text, constraint.start) }, finding));
  const { name: of } = constraint;
  for (const name of constraint.columns) if (!names.includes(name)) report(constraintLacksColumn(of, name, names));
  if (constraint.condition && found.length === 0) {
    for (const problem of resolveExpression(constraint.condition, [{ name: table.name, columns: names }]))
      report(unknownInConstraint(of, 'parts' in problem ? problem.parts.join('.') : ''));
  }
  const target = constraint.references;
  if (!target) return found;
  if (!around.tables.has(target.table)) {
    report(referencesNothing(of, target.table, around.tables.keys()));
    return found;
  }
  const referenced = around.columns.get(target.table)?.map((c) => c.name);
  for (const column of target.columns)
    if (referenced && !referenced.includes(column))
      report(referencedLacks(of, { table: target.table, column }, referenced));
  return found;
}
