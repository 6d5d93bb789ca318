import { unreadable } from '../index/index-file.js';
import type { Diagnostic } from '../model/diagnostic.js';
import type { Column, ProjectFunction, Table } from '../model/project.js';
import { ColumnReader, type ColumnSurroundings, type ReadColumns } from './column-reader.js';

/** A table as its columns were read, from what, and what was wrong. */
interface ResolvedTable {
  readonly table: Table;
  readonly inputs: readonly (readonly Column[] | undefined)[];
  /** The types that the functions of its query declare, as one text. */
  readonly returns: string;
  readonly columns: readonly Column[] | undefined;
  readonly rows: readonly string[];
  readonly diagnostics: readonly Diagnostic[];
}

/** What is kept of this phase for the next reading: each table that was resolved from the same is not read again. */
export interface ColumnsMemo {
  /** In their order. */
  readonly tables: readonly ResolvedTable[];
  readonly columns: ResolvedColumns['columns'];
  readonly rows: ResolvedColumns['rows'];
  readonly needs: ReadonlyMap<string, readonly string[]>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
}

export interface ResolvedColumns {
  readonly columns: ReadonlyMap<string, readonly Column[] | undefined>;
  /** What decides which rows each table's query has. */
  readonly rows: ReadonlyMap<string, readonly string[]>;
  readonly diagnostics: readonly Diagnostic[];
  readonly memo: ColumnsMemo;
  /** Reads queries of checks and ad hoc queries from the tables' columns. */
  readonly reader: ColumnReader;
}

/**
 * The fourth phase: columns of tables, each from those of the tables before it.
 * @param order names of tables, each after what it needs
 */
export function resolveColumns(
  order: readonly string[],
  needs: ReadonlyMap<string, readonly string[]>,
  around: Omit<ColumnSurroundings, 'columns'>,
  before: ColumnsMemo | undefined,
): ResolvedColumns {
  // As long as everybody needs the same, the order is the same, and only what is behind something changed is looked at.
  const same = before?.needs === needs && sameFunctions(before.functions, around.functions) ? before : undefined;
  const byName = same || !before ? undefined : new Map(before.tables.map((t) => [t.table.fullName, t]));
  const tables: ResolvedTable[] = same ? [...same.tables] : [];
  let columns = same?.columns ?? new Map<string, readonly Column[] | undefined>();
  let rows = same?.rows ?? new Map<string, readonly string[]>();
  const diagnostics: Diagnostic[] = [];
  const reader = new ColumnReader({ ...around, columns: { get: (name) => columns.get(name) } });
  const changed = new Set<string>();
  for (const [place, name] of order.entries()) {
    const table = around.tables.get(name)!;
    const known = same ? tables[place] : byName?.get(name);
    if (same && known!.table === table && !(changed.size && needs.get(name)!.some((n) => changed.has(n)))) {
      for (const d of known!.diagnostics) diagnostics.push(d);
      continue;
    }
    const inputs = needs.get(name)!.map((input) => columns.get(input));
    const returns = returnsOf(table, around.functions);
    const resolved =
      known && isSame(known, { table, inputs, returns }) ? known : freshly(reader, { table, inputs, returns }, known);
    tables[place] = resolved;
    if (!same || resolved.columns !== known!.columns) {
      changed.add(name);
      columns = extended(columns, same?.columns, [name, resolved.columns]);
    }
    if (!same || resolved.rows.join() !== known!.rows.join()) rows = extended(rows, same?.rows, [name, resolved.rows]);
    for (const d of resolved.diagnostics) diagnostics.push(d);
  }
  const memo = { tables, columns, rows, needs, functions: around.functions };
  return { columns, rows, diagnostics, memo, reader };
}

/** A map with one more entry; copied where it is still that of before. */
function extended<V>(
  map: ReadonlyMap<string, V>,
  before: ReadonlyMap<string, V> | undefined,
  [name, value]: readonly [string, V],
): Map<string, V> {
  const own = map === before ? new Map(map) : (map as Map<string, V>);
  return own.set(name, value);
}

const sameFunctions = (a: ReadonlyMap<string, ProjectFunction>, b: ReadonlyMap<string, ProjectFunction>): boolean =>
  a.size === b.size && [...a].every(([name, f]) => b.get(name) === f);

type From = Pick<ResolvedTable, 'table' | 'inputs' | 'returns'>;

const isSame = (known: ResolvedTable, { table, inputs, returns }: From): boolean =>
  known.table === table &&
  known.returns === returns &&
  known.inputs.length === inputs.length &&
  known.inputs.every((c, i) => c === inputs[i]);

/** Columns that are as they were stay the same object: what reads them need not be resolved again. */
function freshly(reader: ColumnReader, from: From, known: ResolvedTable | undefined): ResolvedTable {
  const { columns, rows, diagnostics } = columnsOrFault(reader, from.table);
  return {
    ...from,
    rows,
    columns: known && sameColumns(known.columns, columns) ? known.columns : columns,
    diagnostics,
  };
}

/** A fault of this program in one table is told there, and stops nothing else. */
function columnsOrFault(reader: ColumnReader, table: Table): ReadColumns {
  try {
    return reader.columnsOf(table);
  } catch (error) {
    return { columns: undefined, rows: [], diagnostics: [unreadable(table.path, table.nameRange, error)] };
  }
}

function returnsOf(table: Table, functions: ReadonlyMap<string, ProjectFunction>): string {
  const used = table.kind === 'definition' ? (table.query?.functions ?? []) : [];
  return used.map((f) => JSON.stringify(declared(functions.get(f.name)))).join('\u0000');
}

const declared = (f: ProjectFunction | undefined) => f && [f.returns, f.returnsSet, f.columns];

function sameColumns(a: readonly Column[] | undefined, b: readonly Column[] | undefined): boolean {
  if (!a || !b) return a === b;
  return (
    a.length === b.length && a.every((c, i) => c.name === b[i]!.name && c.type === b[i]!.type && isSameWay(c, b[i]!))
  );
}

const isSameWay = (a: Column, b: Column): boolean =>
  a.kind === b.kind && a.origins.join() === b.origins.join() && a.influence.join() === b.influence.join();
