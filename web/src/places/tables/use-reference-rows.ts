import { csvText, readCsv, readPasted, type CsvField } from '@ouvrage/core/index';
import { referenceProblems } from '@ouvrage/core/intake';
import { useMemo, useState } from 'react';
import { isNumeric } from '../../shared/format';
import type { TableSummary } from '../../worker/protocol';
import { useFileText } from './use-file-text';
import { useReferenceChecks } from './use-reference-checks';

/** The rows of a reference table's file, what is wrong with them, and what can be done with them. */
export function useReferenceRows(table: TableSummary, path: string) {
  const file = useFileText(path);
  const typed = useMemo(() => readCsv(file.text), [file.text]);
  const { header, rows, problems: broken } = typed;
  const columns = useMemo(() => table.columns ?? [], [table.columns]);
  const unsound = useMemo(() => referenceProblems(columns, header, rows), [columns, header, rows]);
  const checks = useReferenceChecks(table, typed, unsound);
  const problems = useMemo(() => [...unsound, ...checks.problems], [unsound, checks.problems]);
  const wrong = useMemo(() => new Map(problems.map((p) => [`${p.row} ${p.column}`, p.message])), [problems]);
  const [sort, setSort] = useState<{ column: string; descending: boolean }>();
  const write = (next: readonly (readonly CsvField[])[]) => file.setText(csvText(header, next));
  const change = (row: number, at: number, value: CsvField) =>
    write(rows.map((r, i) => (i === row ? header.map((_, j) => (j === at ? value : (r[j] ?? null))) : r)));
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
  /** Cells of a spreadsheet go in from the cell that they are pasted into; rows are added as needed. @returns false for a single value, which the field takes itself */
  const paste = (text: string, row: number, at: number): boolean => {
    const cells = readPasted(text);
    if (cells.length === 1 && cells[0]!.length === 1) return false;
    const next = rows.map((r) => header.map((_, j) => r[j] ?? null));
    cells.forEach((line, i) => {
      const target = (next[row + i] ??= header.map(() => null));
      line.forEach((cell, j) => {
        if (at + j < header.length) target[at + j] = cell === '' ? null : cell;
      });
    });
    write(next);
    return true;
  };
  return { file, header, rows, columns, broken, problems, wrong, checks, write, change, order, paste };
}
