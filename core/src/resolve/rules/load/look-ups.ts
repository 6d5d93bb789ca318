import { columnOption, isLookUp, lookedUpTable, namesIn, optionOf } from '../../../language/contract.js';
import { isView } from '../../../language/policies.js';
import { columnOf } from '../../../language/roles.js';
import { specOf } from '../../../language/spec.js';
import type { ColumnDeclaration } from '../../../model/project.js';
import { didYouMean } from '../../../sql/nearest.js';
import type { CheckedLoad, LoadRule } from './load.js';

/** Columns that are looked up: where, by what, and whether that is there. */
export const lookUps: LoadRule = (load) => {
  for (const column of load.columns) if (isLookUp(column)) lookUp(load, column);
};

function lookUp(load: CheckedLoad, column: ColumnDeclaration): void {
  const at = (message: string, hint: string) => load.report(`${column.name}: ${message}`, hint, column.range);
  const other = lookedUpTable(load.table, column.name);
  const dimension = other === undefined ? undefined : load.around.tables.get(other);
  if (isView(load.table)) at('a view cannot look keys up', 'write load = rebuild or load = merge');
  if (other === undefined)
    return at('looked_up_by needs to know in which table', 'write references layer.table (key) on the column');
  if (dimension?.kind !== 'definition')
    return at(`${other} is not a definition of the project`, 'look keys up in a table that Ouvrage loads');
  const key = namesIn(optionOf(dimension, 'business_key'));
  if (!columnOf(dimension.contract?.columns ?? [], 'surrogate key'))
    return at(`${other} has no surrogate key`, "give one of its columns options (role 'surrogate key')");
  if (columnOption(column, 'missing') === 'infer' && specOf(dimension).kind === 'dated')
    at(`${other} holds one copy per date, which cannot contain placeholders`, "use missing 'unknown' or 'stop'");
  const by = namesIn(columnOption(column, 'looked_up_by'));
  if (by.length !== key.length)
    at(
      `looked_up_by names ${by.length} ${by.length === 1 ? 'column' : 'columns'}, the business key of ${other} has ${key.length}`,
      `name them in the order of ${key.join(', ') || 'its business key'}`,
    );
  const returned = load.around.query?.map((c) => c.name);
  for (const name of [...by, ...namesIn(columnOption(column, 'at'))])
    if (returned && !returned.includes(name))
      at(
        `the query returns no column ${name}`,
        didYouMean(name, returned) ?? 'add it to the query; the contract need not have it',
      );
}
