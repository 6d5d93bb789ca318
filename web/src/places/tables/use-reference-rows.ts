import type { CsvField } from '@ouvrage/core/index';
import { referenceProblems } from '@ouvrage/core/intake';
import { useMemo, useState } from 'react';
import { isNumeric } from '../../shared/format';
import type { TableSummary } from '../../worker/protocol';
import { useCsvRows } from './use-csv-rows';
import { useReferenceChecks } from './use-reference-checks';

/** The rows of a reference table's file, what is wrong with them, and what can be done with them. */
export function useReferenceRows(table: TableSummary, path: string) {
  const { file, typed, header, rows, broken, write, change, paste } = useCsvRows(path);
  const columns = useMemo(() => table.columns ?? [], [table.columns]);
  const unsound = useMemo(() => referenceProblems(columns, header, rows), [columns, header, rows]);
  const checks = useReferenceChecks(table, typed, unsound);
  const problems = useMemo(() => [...unsound, ...checks.problems], [unsound, checks.problems]);
  const wrong = useMemo(() => new Map(problems.map((p) => [`${p.row} ${p.column}`, p.message])), [problems]);
  const [sort, setSort] = useState<{ column: string; descending: boolean }>();
  const order = (column: string) => {
    const descending = sort?.column === column && !sort.descending;
    const at = header.indexOf(column);
    const numeric = isNumeric(columns.find((c) => c.name === column)?.type);
    const compare = (a: CsvField, b: CsvField) =>
      a === null || b === null
        ? Number(a === null) - Number(b === null)
        : numeric
          ? Number(a) - Number(b)
          : a < b
            ? -1
            : a > b
              ? 1
              : 0;
    setSort({ column, descending });
    write([...rows].sort((a, b) => compare(a[at] ?? null, b[at] ?? null) * (descending ? -1 : 1)));
  };
  return { file, header, rows, columns, broken, problems, wrong, checks, write, change, order, paste };
}
