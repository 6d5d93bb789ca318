import { columnProblem } from '../contract/column-problem.js';
import { didYouMean } from '../../../sql/nearest.js';
import { leftDiagnostics } from '../contract/left-to-database.js';
import type { Diagnostic } from '../../../model/diagnostic.js';
import type { ReferenceTable, Column } from '../../../model/project.js';
/** A reference table's columns: the header's, with the types of its contract, the two held against each other. */
export function referenceColumns(table: ReferenceTable): { columns: readonly Column[]; diagnostics: Diagnostic[] } {
  const declared = new Map(table.contract?.columns.map((c) => [c.name, c]));
  const diagnostics: Diagnostic[] = table.contract ? leftDiagnostics(table, table.contract) : [];
  for (const c of declared.values()) {
    if (table.header.includes(c.name)) continue;
    const undeclared = table.header.filter((h) => !declared.has(h));
    const hint = didYouMean(c.name, undeclared) ?? 'add it to the header row';
    diagnostics.push(
      columnProblem({ path: table.path, range: c.range }, `${table.csvPath} has no column ${c.name}`, hint),
    );
  }
  for (const name of table.contract ? table.header : []) {
    if (declared.has(name)) continue;
    const missing = [...declared.keys()].filter((t) => !table.header.includes(t));
    const hint = didYouMean(name, missing) ?? 'declare it';
    diagnostics.push(
      columnProblem(
        { path: table.path, range: table.nameRange },
        `the contract does not declare column ${name} of ${table.csvPath}`,
        hint,
      ),
    );
  }
  const names = table.contract ? [...declared.keys()] : table.header;
  return {
    columns: names.map((name) => ({ name, type: declared.get(name)?.type ?? 'text', origins: [] })),
    diagnostics,
  };
}
