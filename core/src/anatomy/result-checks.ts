import { checkTitle, countOver } from '../check/checks.js';
import { constraintChecks, type ConstraintCheck } from '../check/constraint-checks.js';
import { compileCondition, type Names } from '../compile/compile.js';
import { definitionQuery, previewQuery } from '../keys/definition-query.js';
import { isFilled } from '../language/contract.js';
import type { Definition, Project } from '../model/project.js';
import { wrapped } from '../sql/edits.js';
import { ident, qualified } from '../sql/quote.js';
import { nameOf, tokenize } from '../sql/tokens.js';

/** A check of a contract that is asked of a query's result. */
export interface ResultCheck {
  readonly name: string;
  readonly isAdvisory: boolean;
}

const RESULT = ident('the result');

/**
 * The checks of a contract that can be asked of what the definition's query returns: those over columns that no load
 * fills, and over tables that have rows.
 * @returns the statement, whose row is `total` and the rows at fault of each check
 */
export function resultChecks(
  project: Project,
  path: string,
  names: Names,
): { readonly checks: readonly ResultCheck[]; readonly sql: string } | undefined {
  const table = [...project.tables.values()].find((t): t is Definition => t.kind === 'definition' && t.path === path);
  if (!table?.query || !table.contract) return undefined;
  const filled = new Set(table.contract.columns.filter(isFilled).map((c) => c.name));
  const isOfQuery = ({ columns, expression, references }: ConstraintCheck): boolean =>
    !columns.some((column) => filled.has(column)) &&
    !(expression !== undefined && tokenize(expression).some((t) => filled.has(nameOf(t)))) &&
    (!references || (references.table !== table.fullName && names.placeOf(references.table) !== undefined));
  const checks = constraintChecks(project, table)
    .filter(isOfQuery)
    .map(({ exempt: _, ...check }) => ({
      ...check,
      ...(check.expression === undefined ? {} : { expression: compileCondition(check.expression, names) }),
    }));
  if (checks.length === 0) return undefined;
  const relationOf = (name: string) => (name === table.fullName ? RESULT : qualified(names.placeOf(name)!));
  const asked = wrapped(
    `with ${RESULT} as materialized (\n`,
    definitionQuery(project, table, names),
    `\n)\n${countOver(checks, table.fullName, relationOf)}`,
  );
  return {
    checks: checks.map((c) => ({ name: checkTitle(c), isAdvisory: c.advisory })),
    sql: previewQuery(project, asked, [...(project.reads.get(table.fullName) ?? [])], names).text,
  };
}
