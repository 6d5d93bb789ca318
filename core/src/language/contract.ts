import type { ColumnDeclaration, Contract, Definition } from '../model/project.js';
import type { ColumnOption, TableOption } from './options.js';
import { roleOf, ROLES } from './roles.js';

/** What a definition's contract says, by the names of `TABLE_OPTIONS` and `COLUMN_OPTIONS`. */

/** `a, b` as names. */
export const namesIn = (list: string | undefined): string[] =>
  list === undefined ? [] : list.split(',').flatMap((n) => n.trim() || []);

export const optionOf = (
  table: { readonly contract?: Pick<Contract, 'options'> },
  name: TableOption,
): string | undefined => table.contract?.options.get(name)?.value;

export const columnOption = (column: Pick<ColumnDeclaration, 'options'>, name: ColumnOption): string | undefined =>
  column.options[name];

/** Whether the load fills a column itself, by its role, by looking a key up, or with a value of before. */
export function isFilled(column: ColumnDeclaration): boolean {
  const role = roleOf(column);
  return (
    (role !== undefined && ROLES[role].filled) || isLookUp(column) || columnOption(column, 'on_change') === 'previous'
  );
}

/** Whether a column's value is looked up in a dimension. */
export const isLookUp = (column: Pick<ColumnDeclaration, 'options'>): boolean =>
  columnOption(column, 'looked_up_by') !== undefined;

/** Columns that the query may return without the contract declaring them: what look-ups and events need. */
export function helperColumns(table: Definition): ReadonlySet<string> {
  const ofColumns = (table.contract?.columns ?? []).flatMap((c) => [
    ...namesIn(columnOption(c, 'looked_up_by')),
    ...namesIn(columnOption(c, 'at')),
  ]);
  return new Set([
    ...ofColumns,
    ...namesIn(optionOf(table, 'effective_from')),
    ...namesIn(optionOf(table, 'order_within')),
  ]);
}

/** The table that a column refers to. */
export function lookedUpTable(table: Definition, column: string): string | undefined {
  return table.contract?.constraints.find(
    (c) => c.kind === 'references' && c.columns.length === 1 && c.columns[0] === column,
  )?.references?.table;
}
