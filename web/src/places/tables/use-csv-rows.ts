import { csvText, readCsv, readPasted, type CsvField } from '@ouvrage/core/index';
import { useMemo } from 'react';
import { useFileText } from './use-file-text';

/** The rows of a CSV file of the project as they are being edited. */
export function useCsvRows(path: string) {
  const file = useFileText(path);
  const typed = useMemo(() => readCsv(file.text), [file.text]);
  const { header, rows, problems: broken } = typed;
  const write = (next: readonly (readonly CsvField[])[]) => file.setText(csvText(header, next));
  /** Other columns, or others in their order; what is new is null. */
  const writeColumns = (next: readonly string[]) => {
    const places = next.map((name) => header.indexOf(name));
    file.setText(
      csvText(
        next,
        rows.map((r) => places.map((p) => (p < 0 ? null : (r[p] ?? null)))),
      ),
    );
  };
  const change = (row: number, at: number, value: CsvField) =>
    write(rows.map((r, i) => (i === row ? header.map((_, j) => (j === at ? value : (r[j] ?? null))) : r)));
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
  return { file, typed, header, rows, broken, write, writeColumns, change, paste };
}
