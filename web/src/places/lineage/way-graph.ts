import type { Station } from '@ouvrage/core/lineage';
import type { ColumnRef, TraceAnswer } from '../../worker/protocol';

/** A column as the drawing has it: the one that was asked for, one that gives or takes its value, or one that decides. */
export type WayRole = 'chosen' | 'value' | 'influence';

export interface WayTable {
  readonly table: string;
  readonly columns: readonly { readonly column: string; readonly role: WayRole }[];
}

export interface WayEdge {
  readonly from: ColumnRef;
  readonly to: ColumnRef;
  readonly kind: 'value' | 'influence';
}

export interface WayGraph {
  readonly tables: readonly WayTable[];
  readonly edges: readonly WayEdge[];
}

export type Direction = 'upstream' | 'downstream' | 'both';

/**
 * What is drawn of a column's way: tables with the columns that take part, and the edges between these.
 * @param refOf the table and the column of an id; undefined of what is no column of a table that is there
 */
export function wayGraph(
  { back, forward, values }: TraceAnswer,
  direction: Direction,
  refOf: (id: string) => ColumnRef | undefined,
): WayGraph {
  const [chosen] = back;
  if (!chosen) return { tables: [], edges: [] };
  const roles = new Map<string, Map<string, WayRole>>();
  const edges = new Map<string, WayEdge>();
  const mark = ({ table, column }: ColumnRef, role: WayRole) => {
    const columns = roles.get(table) ?? new Map<string, WayRole>();
    roles.set(table, columns);
    const before = columns.get(column);
    if (before === undefined || (before === 'influence' && role === 'value')) columns.set(column, role);
  };
  const draw = (from: ColumnRef, to: ColumnRef, kind: WayEdge['kind']) => {
    const key = `${from.table}.${from.column} ${to.table}.${to.column}`;
    if (from.table === to.table || (edges.has(key) && kind === 'influence')) return;
    edges.set(key, { from, to, kind });
  };
  mark(chosen, 'chosen');
  if (direction !== 'downstream')
    for (const station of back) {
      mark(station, station === chosen ? 'chosen' : 'value');
      for (const from of station.value.flatMap((id) => refOf(id) ?? [])) draw(from, station, 'value');
      for (const from of decidersOf(station).flatMap((id) => refOf(id) ?? [])) {
        mark(from, 'influence');
        draw(from, station, 'influence');
      }
    }
  if (direction !== 'upstream') {
    const onWay = new Set([chosen, ...values].map((c) => `${c.table}.${c.column}`));
    for (const station of forward) {
      mark(station, 'value');
      for (const id of station.value) {
        const from = onWay.has(id) ? refOf(id) : undefined;
        if (from) draw(from, station, 'value');
      }
    }
  }
  return {
    tables: [...roles].map(([table, columns]) => ({
      table,
      columns: [...columns].map(([column, role]) => ({ column, role })),
    })),
    edges: [...edges.values()],
  };
}

/** Columns that decide how a column comes about, and which rows its table has. */
const decidersOf = (station: Station) => [...station.influence, ...station.rows].filter((id) => !id.endsWith('.*'));
