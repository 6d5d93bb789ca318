import { dateOf, type HarbourTable } from './harbour.js';

/**
 * What goes wrong at the harbour for a while, when its past is played: rows as the system shows them on those days.
 * Afterwards they are as they would have been, so that each later day is the same with and without.
 */

/** The day on which the gate clock of Box Stage was two hours slow: ships left before they came. */
export const SLOW_GATE_DAY = 45;
/** From this day until the end of the past the dues office's export does not run: no newer invoices and payments. */
export const STUCK_FROM = 59;
export const STUCK_UNTIL = 60;

const TWO_HOURS = 2 * 3_600_000;

/** The tables of a day as the harbour's system shows them while something is wrong. */
export function withTroubles(tables: readonly HarbourTable[], day: number): readonly HarbourTable[] {
  if (day === SLOW_GATE_DAY) return changed(tables, 'calls', (at) => (row) => [withSlowGate(row, at, day)]);
  if (day < STUCK_FROM || day > STUCK_UNTIL) return tables;
  const last = dateOf(STUCK_FROM - 1);
  const isKnown = (column: string) => (at: (name: string) => number) => (row: HarbourTable['rows'][number]) =>
    String(row[at(column)]).slice(0, 10) <= last ? [row] : [];
  return changed(changed(tables, 'dues_invoices', isKnown('changed_at')), 'payments', isKnown('paid_on'));
}

type Row = HarbourTable['rows'][number];

function withSlowGate(row: Row, at: (name: string) => number, day: number): Row {
  const [arrived, departed] = [row[at('arrived_at')], row[at('departed_at')]];
  const isOfGate = String(row[at('berth_code')]).startsWith('BS') && String(departed).startsWith(dateOf(day));
  if (!isOfGate || typeof arrived !== 'string') return row;
  const early = new Date(Date.parse(arrived) - TWO_HOURS).toISOString();
  return row.map((value, i) => (i === at('departed_at') ? early : value));
}

function changed(
  tables: readonly HarbourTable[],
  name: string,
  rowsOf: (at: (column: string) => number) => (row: Row) => readonly Row[],
): readonly HarbourTable[] {
  return tables.map((table) => {
    if (table.name !== name) return table;
    const at = (column: string) => table.columns.findIndex((c) => c.startsWith(`${column} `));
    return { ...table, rows: table.rows.flatMap(rowsOf(at)) };
  });
}
