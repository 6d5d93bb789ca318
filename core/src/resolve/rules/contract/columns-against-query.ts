import { narrows } from '../../../sql/types.js';
import { didYouMean } from '../../../sql/nearest.js';
import { columnProblem } from './column-problem.js';
import { helperColumns, isFilled, optionOf } from '../../../language/contract.js';
import type { Diagnostic } from '../../../model/diagnostic.js';
import type { Range } from '../../../sql/positions.js';
import type { Definition, Column } from '../../../model/project.js';
export function columnsAgainstQuery(table: Definition, columns: readonly Column[], query: Range): Diagnostic[] {
  const found: Diagnostic[] = [];
  const declared = table.contract!.columns;
  const only = (names: readonly { readonly name: string }[], others: readonly { readonly name: string }[]) =>
    names.map((n) => n.name).filter((name) => !others.some((o) => o.name === name));
  const helpers = helperColumns(table);
  for (const c of declared) {
    const given = columns.find((q) => q.name === c.name);
    if (isFilled(c)) {
      if (given)
        found.push(
          columnProblem(
            { path: table.path, range: c.range },
            `${c.name} is filled by the load, and the query returns it too`,
            'remove it from the query',
          ),
        );
      continue;
    }
    if (!given) {
      const hint = didYouMean(c.name, only(columns, declared)) ?? 'add it to the query, or remove it from the contract';
      found.push(columnProblem({ path: table.path, range: c.range }, `the query returns no column ${c.name}`, hint));
    } else if (given.type !== undefined && given.type !== c.type && narrows(given.type, c.type)) {
      const message = `${c.name} is ${given.type} in the query and ${c.type} in the contract: values could be cut or refused`;
      found.push({
        ...columnProblem({ path: table.path, range: c.range }, message, 'widen the contract, or round in the query'),
        severity: 'warning',
      });
    }
  }
  const drift = optionOf(table, 'drift');
  for (const name of drift === 'add' || drift === 'ignore' ? [] : only(columns, declared)) {
    if (helpers.has(name)) continue;
    const hint = didYouMean(name, only(declared, columns)) ?? 'declare it, or remove it from the query';
    found.push(
      columnProblem(
        { path: table.path, range: query },
        `the contract does not declare column ${name}, which the query returns`,
        hint,
      ),
    );
  }
  return found;
}

/** Columns of a query that a contract with drift = add takes over. */
export function driftedColumns(table: Definition, columns: readonly Column[] = []): Column[] {
  if (optionOf(table, 'drift') !== 'add') return [];
  const helpers = helperColumns(table);
  return columns.filter((c) => !helpers.has(c.name) && !table.contract!.columns.some((d) => d.name === c.name));
}
