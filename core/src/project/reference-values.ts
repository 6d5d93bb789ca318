import { valueProblem } from '../load/delivery.js';
import type { CsvField } from './csv.js';

export interface ReferenceColumn {
  readonly name: string;
  readonly type?: string | undefined;
  readonly notNull: boolean;
  readonly isKey: boolean;
}

/** What is wrong with a value of a reference table. */
export interface ReferenceProblem {
  readonly row: number;
  readonly column: string;
  readonly message: string;
}

/** Holds the rows of a reference table against its contract: types, nulls, the key. */
export function referenceProblems(columns: readonly ReferenceColumn[], header: readonly string[], rows: readonly (readonly CsvField[])[]): ReferenceProblem[] {
  const found: ReferenceProblem[] = [];
  for (const column of columns) {
    const at = header.indexOf(column.name);
    if (at < 0) continue;
    rows.forEach((fields, row) => {
      const value = fields[at] ?? null;
      const problem =
        value === null ? (column.notNull ? 'is never null' : undefined) : column.type === undefined ? undefined : valueProblem(column.type, value);
      if (problem) found.push({ row, column: column.name, message: value === null ? `${column.name} ${problem}` : `“${value}” ${problem}` });
    });
  }
  return [...found, ...repeatedKeys(columns, header, rows)];
}

function repeatedKeys(columns: readonly ReferenceColumn[], header: readonly string[], rows: readonly (readonly CsvField[])[]): ReferenceProblem[] {
  const key = columns.filter((c) => c.isKey);
  const places = key.map((c) => header.indexOf(c.name));
  if (key.length === 0 || places.includes(-1)) return [];
  const first = new Map<string, number>();
  return rows.flatMap((fields, row): ReferenceProblem[] => {
    const values = places.map((p) => fields[p] ?? null);
    if (values.includes(null)) return [];
    const text = JSON.stringify(values);
    const before = first.get(text);
    if (before === undefined) first.set(text, row);
    return before === undefined ? [] : [{ row, column: key[0]!.name, message: `${values.join(', ')} stands in row ${before + 1} already` }];
  });
}
