import { resolveExpression } from '../../../columns/columns.js';
import { didYouMean } from '../../../sql/nearest.js';
import { constraintRange } from '../../../index/contract.js';
import type { Diagnostic } from '../../../model/diagnostic.js';
import type { ContractSurroundings } from './surroundings.js';
import type { Definition, ConstraintDeclaration, Column } from '../../../model/project.js';
export function constraintDiagnostics(
  table: Definition,
  constraint: ConstraintDeclaration,
  declared: readonly Column[],
  around: ContractSurroundings,
): readonly Diagnostic[] {
  const found: Diagnostic[] = [];
  const report = (code: Diagnostic['code'], message: string, hint?: string) => {
    const range = constraintRange(around.file.text, constraint.start);
    found.push({
      code,
      severity: 'error',
      path: table.path,
      range,
      message: `constraint ${constraint.name}: ${message}`,
      ...(hint ? { hint } : {}),
    });
  };
  for (const name of constraint.columns) {
    if (declared.some((c) => c.name === name)) continue;
    const hint = didYouMean(
      name,
      declared.map((c) => c.name),
    );
    report('unknown-column', `the contract has no column ${name}`, hint);
  }
  if (constraint.condition && found.length === 0) {
    for (const problem of resolveExpression(constraint.condition, [{ name: table.name, columns: declared }]))
      report('unknown-column', `there is no column ${'parts' in problem ? problem.parts.join('.') : ''}`);
  }
  const target = constraint.references;
  if (!target) return found;
  if (!around.tables.has(target.table)) {
    report(
      'unknown-table',
      `it references ${target.table}, which is not a table of the project`,
      didYouMean(target.table, around.tables.keys()),
    );
    return found;
  }
  const names = around.columns.get(target.table)?.map((c) => c.name);
  for (const column of target.columns) {
    if (names && !names.includes(column))
      report('unknown-column', `${target.table} has no column ${column}`, didYouMean(column, names));
  }
  return found;
}
