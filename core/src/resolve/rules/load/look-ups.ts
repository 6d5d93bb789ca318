import { columnOption, isLookUp, lookedUpTable, namesIn, optionOf } from '../../../language/contract.js';
import { isView } from '../../../language/policies.js';
import { columnOf } from '../../../language/roles.js';
import { specOf } from '../../../language/spec.js';
import type { ColumnDeclaration } from '../../../model/project.js';
import type { CheckedLoad, LoadRule } from './load.js';
import {
  lookedUpWhere,
  noPlaceholders,
  notADefinition,
  notReturned,
  otherNumberOfColumns,
  viewLooksUp,
  withoutSurrogate,
  type LoadMessage,
} from './messages.js';

/** Columns that are looked up: where, by what, and whether that is there. */
export const lookUps: LoadRule = (load) => {
  for (const column of load.columns) if (isLookUp(column)) lookUp(load, column);
};

function lookUp(load: CheckedLoad, column: ColumnDeclaration): void {
  const { name } = column;
  const at = (message: LoadMessage) => load.report(message, column.range);
  const other = lookedUpTable(load.table, name);
  const dimension = other === undefined ? undefined : load.around.tables.get(other);
  if (isView(load.table)) at(viewLooksUp(name));
  if (other === undefined) return at(lookedUpWhere(name));
  if (dimension?.kind !== 'definition') return at(notADefinition(name, other));
  const key = namesIn(optionOf(dimension, 'business_key'));
  if (!columnOf(dimension.contract?.columns ?? [], 'surrogate key')) return at(withoutSurrogate(name, other));
  if (columnOption(column, 'missing') === 'infer' && specOf(dimension).kind === 'dated')
    at(noPlaceholders(name, other));
  const by = namesIn(columnOption(column, 'looked_up_by'));
  if (by.length !== key.length) at(otherNumberOfColumns(name, by.length, { table: other, key }));
  const returned = load.around.query?.map((c) => c.name);
  for (const given of [...by, ...namesIn(columnOption(column, 'at'))])
    if (returned && !returned.includes(given)) at(notReturned(name, given, returned));
}
