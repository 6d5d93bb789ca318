import type { CsvField } from '@ouvrage/core/index';
import { MOST_CHECKED, referenceCheckQuery, type ReferenceProblem } from '@ouvrage/core/intake';
import { useEffect, useMemo, useState } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { TableSummary } from '../../worker/protocol';

/** The rows of one state of the text, so that the editor's next state is not taken for it. */
export interface Typed {
  readonly header: readonly string[];
  readonly rows: readonly (readonly CsvField[])[];
}

/**
 * Holds rows that are being typed against the conditions and references of the table's contract, by
 * asking the database a moment after each change.
 * @param unsound rows in which a value is not of its type: they are asked about once it is
 */
export function useReferenceChecks(table: TableSummary, typed: Typed, unsound: readonly ReferenceProblem[]) {
  const { slug, summary } = useProject();
  const [ask, { isLoading }] = usePreviewMutation();
  const [answer, setAnswer] = useState<{
    readonly of: string;
    readonly problems: readonly ReferenceProblem[];
    readonly failure?: ProblemBody;
  }>();
  const checks = useMemo(
    () =>
      summary.checks.flatMap((c) =>
        c.kind !== 'query' && c.kind !== 'policy' && c.table === table.fullName ? [c] : [],
      ),
    [summary.checks, table.fullName],
  );
  const sql = useMemo(
    () =>
      referenceCheckQuery(
        { name: table.name, columns: table.columns ?? [] },
        checks,
        typed,
        new Set(unsound.map((p) => p.row)),
      ),
    [table, checks, typed, unsound],
  );
  useEffect(() => {
    if (sql === undefined) return;
    let current = true;
    const timer = setTimeout(() => {
      void ask({ slug, path: 'adhoc/reference_checks.sql', text: sql, limit: 500 }).then((found) => {
        if (!current) return;
        const problems = (found.data?.rows ?? []).map(([row, check]): ReferenceProblem => {
          const broken = checks[Number(check)]!;
          return {
            row: Number(row),
            column: broken.columns[0] ?? typed.header[0]!,
            message: `breaks ${broken.name}: ${broken.title}`,
          };
        });
        setAnswer({ of: sql, problems, ...(found.error ? { failure: found.error as ProblemBody } : {}) });
      });
    }, 400);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [ask, checks, slug, sql, typed.header]);
  const settled = sql === undefined || answer?.of === sql;
  return {
    problems: sql !== undefined && answer?.of === sql ? answer.problems : [],
    failure: answer?.of === sql ? answer?.failure : undefined,
    asking: !settled || isLoading,
    /** What is checked live: nothing, all rows, or the first of them. */
    covered: sql === undefined ? 0 : Math.min(typed.rows.length, MOST_CHECKED),
  };
}
