import { type ConstraintCheck, type Verdict, verdictOf } from '@ouvrage/core/check';
import type { FaultRows } from '@ouvrage/api/rows';

/** A check of a load, run. */
export interface CheckOutcome {
  readonly id: string;
  readonly table: string;
  readonly verdict: Verdict;
  readonly atFault: string;
  readonly total: string | null;
  /** The statement that finds the rows at fault. */
  readonly sql: string;
  readonly rows: FaultRows | null;
  /** A hash of what the check says. */
  readonly says?: string;
}

/**
 * Judges the checks of one table by the row of their count statement: `total, c0, c1, …`.
 * @param find rows at fault of a check; asked only where there are any
 * @param kept the statement that is shown to people
 */
export async function countedOutcomes(
  checks: readonly ConstraintCheck[],
  counts: Readonly<Record<string, string>>,
  {
    find,
    kept,
  }: {
    readonly find: (check: ConstraintCheck) => Promise<FaultRows>;
    readonly kept: (check: ConstraintCheck) => string;
  },
): Promise<CheckOutcome[]> {
  const total = counts['total']!;
  const outcomes: CheckOutcome[] = [];
  for (const [i, check] of checks.entries()) {
    const atFault = counts[`c${i}`]!;
    outcomes.push({
      id: check.id,
      table: check.table,
      verdict: verdictOf(check, Number(atFault), Number(total)),
      atFault,
      total,
      sql: kept(check),
      rows: atFault === '0' ? null : await find(check),
    });
  }
  return outcomes;
}

/** The outcome of a check that comes with a policy. @param rows those at fault, or none */
export function policyOutcome(table: string, name: string, sql: string, rows: FaultRows | null): CheckOutcome {
  return {
    id: `${table}/${name}`,
    table,
    verdict: rows ? 'broken' : 'holds',
    atFault: String(rows?.rows.length ?? 0),
    total: null,
    sql,
    rows,
  };
}

/** Columns of a load's own, with which it finds rows again; they mean nothing to people. */
const INTERNAL = /^(row_id|op|old_from|begins|kept_\d+|before_first_\d+|place|tied|sharing|number|replaced|differs)\$$/;

/** Rows without the columns of a load's own. */
export function shownRows({ columns, rows }: FaultRows): FaultRows {
  const shown = columns.map((c, i) => [c, i] as const).filter(([c]) => !INTERNAL.test(c));
  return { columns: shown.map(([c]) => c), rows: rows.map((r) => shown.map(([, i]) => r[i]!)) };
}
