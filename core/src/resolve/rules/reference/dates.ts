import { familyOf } from '../../../sql/types.js';
import { valueProblem } from '../../../language/value-problem.js';
import { startsOfLines, rangeOfLine } from '../../../sql/positions.js';
import { readCsv } from '../../../index/csv.js';
import { badValue } from '../contract/messages.js';
import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { ReferenceTable, IndexedFile } from '../../../model/project.js';
/** Columns of a reference table whose values are dates or instants. */
export const datedColumns = (table: ReferenceTable) =>
  table.contract?.columns.filter(
    (c) => ['date', 'instant'].includes(familyOf(c.type)) && table.header.includes(c.name),
  ) ?? [];

/** Dates and instants of a reference table are written as ISO 8601 has it: how others are read depends on settings of the database. */
export function unreadDates(table: ReferenceTable, csv: IndexedFile): readonly Diagnostic[] {
  const known = unread.get(table);
  if (known) return known;
  const found: Diagnostic[] = [];
  const dated = datedColumns(table);
  if (dated.length > 0 && csv.text.length <= LONGEST_DATED) {
    const { rows, lines } = readCsv(csv.text);
    const starts = startsOfLines(csv.text);
    for (const column of dated) {
      const at = table.header.indexOf(column.name);
      for (const [row, fields] of rows.entries()) {
        const value = fields[at];
        const problem = value === null || value === undefined ? undefined : valueProblem(column.type, value);
        if (problem === undefined) continue;
        const line = lines[row]!;
        found.push(
          errorAt(
            { path: csv.path, range: rangeOfLine(starts, line, csv.text.length) },
            badValue(column.name, { value: value!, problem }, { path: csv.path, line }),
          ),
        );
        if (found.length >= MOST_UNREAD) break;
      }
    }
  }
  unread.set(table, found);
  return found;
}

/** Values of a column that are told; more say no more. */
const MOST_UNREAD = 100;

/** Characters of a file whose dates are read here, on the thread that answers requests; those of longer ones are read when they are loaded. */
export const LONGEST_DATED = 2_000_000;

const unread = new WeakMap<ReferenceTable, readonly Diagnostic[]>();
