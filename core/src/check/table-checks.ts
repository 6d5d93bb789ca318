import { compileCondition, type Names } from '../compile/compile.js';
import { namesFunctions } from '../index/condition.js';
import type { Place } from '../model/place.js';
import type { Project, Table } from '../model/project.js';
import { countStatement, rowsStatement } from './checks.js';
import { constraintChecks, type ConstraintCheck } from './constraint-checks.js';

/** The checks of a table's contract, with the project's functions in their conditions replaced. @param home the table's final place */
export function compiledChecks(project: Project, table: Table, home: Place, names: Names): ConstraintCheck[] {
  return constraintChecks(project, table, home).map((c) =>
    c.expression !== undefined && namesFunctions(c.expression)
      ? { ...c, expression: compileCondition(c.expression, names) }
      : c,
  );
}

/** Where a check finds every table that it reads, and the project's functions. */
export interface CheckNames extends Names {
  readonly placeOf: (table: string) => Place;
}

/** Checks of a table's contract as statements over the table where it is. */
export interface TableChecks {
  readonly checks: readonly ConstraintCheck[];
  /** Its row is `total, c0, c1, …` in the order of the checks. */
  readonly count: string;
  /** Returns the rows at fault of one of them. */
  readonly rowsOf: (check: ConstraintCheck) => string;
}

/**
 * Checks of a table's contract, to be asked of the table as it is, without loading it.
 * @param names where each table is
 * @param of which checks, and how many rows at fault of each
 */
export function tableChecks(
  project: Project,
  table: Table,
  names: CheckNames,
  of: { readonly ids?: ReadonlySet<string>; readonly limit: number },
): TableChecks {
  const { fullName } = table;
  const checks = compiledChecks(project, table, names.placeOf(fullName), names).filter(
    (c) => of.ids?.has(c.id) ?? true,
  );
  return {
    checks,
    count: countStatement(checks, fullName, names.placeOf),
    rowsOf: (check) => rowsStatement(check, names.placeOf, of.limit),
  };
}
