import type { SourceTable } from './project.js';
/** Where a source table really lives: schema, table, and the system's name of each declared column. */
export function remotePlace(table: SourceTable): { readonly schema: string; readonly name: string } {
  const option = (name: string) => table.contract.options.get(name)?.value;
  return { schema: option('schema_name') ?? 'public', name: option('table_name') ?? table.name };
}

export const remoteColumn = (column: {
  readonly name: string;
  readonly options: Readonly<Record<string, string>>;
}): string => column.options['column_name'] ?? column.name;

/** The server of source tables that are in the warehouse: they are read where they are. */
export const WAREHOUSE_SERVER = 'warehouse';
