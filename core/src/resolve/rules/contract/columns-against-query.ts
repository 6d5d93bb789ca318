import { narrows } from '../../../sql/types.js';
import { filledAndReturned, narrower, notDeclared, notReturned } from './messages.js';
import { helperColumns, isFilled, optionOf } from '../../../language/contract.js';
import { errorAt, warningAt, type Diagnostic, type Finding } from '../../../model/diagnostic.js';
import type { Range } from '../../../sql/positions.js';
import type { Definition, Column } from '../../../model/project.js';

/** Columns that the contract and the query do not both have, and types that the contract narrows. @param query where the query begins */
export function columnsAgainstQuery(table: Definition, columns: readonly Column[], query: Range): Diagnostic[] {
  const found: Diagnostic[] = [];
  const report = (range: Range, finding: Finding) => found.push(errorAt({ path: table.path, range }, finding));
  const declared = table.contract!.columns;
  const only = (names: readonly { readonly name: string }[], others: readonly { readonly name: string }[]) =>
    names.map((n) => n.name).filter((name) => !others.some((o) => o.name === name));
  const helpers = helperColumns(table);
  for (const c of declared) {
    const given = columns.find((q) => q.name === c.name);
    if (isFilled(c)) {
      if (given) report(c.range, filledAndReturned(c.name));
      continue;
    }
    if (!given) {
      report(c.range, notReturned(c.name, only(columns, declared)));
    } else if (given.type !== undefined && given.type !== c.type && narrows(given.type, c.type) && !isOpen(given)) {
      found.push(warningAt({ path: table.path, range: c.range }, narrower(c.name, given.type, c.type)));
    }
  }
  const drift = optionOf(table, 'drift');
  for (const name of drift === 'add' || drift === 'ignore' ? [] : only(columns, declared)) {
    if (helpers.has(name)) continue;
    report(query, notDeclared(name, only(declared, columns)));
  }
  return found;
}

/** Numbers that a calculation gives have no size of their own: the contract is where it is said, and they are rounded to it. */
const isOpen = ({ type, kind, origins }: Column): boolean =>
  type === 'numeric' && (kind === 'calculated' || kind === 'aggregated' || origins.length > 1);

/** Columns of a query that a contract with drift = add adopts. */
export function driftedColumns(table: Definition, columns: readonly Column[] = []): Column[] {
  if (optionOf(table, 'drift') !== 'add') return [];
  const helpers = helperColumns(table);
  return columns.filter((c) => !helpers.has(c.name) && !table.contract!.columns.some((d) => d.name === c.name));
}
