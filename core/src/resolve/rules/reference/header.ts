import { headerNotDeclared, notInHeader } from '../contract/messages.js';
import { leftDiagnostics } from '../contract/left-to-database.js';
import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import { declaredColumn, type ReferenceTable, type Column } from '../../../model/project.js';
/** A reference table's columns: the header's, with the types of its contract, the two held against each other. */
export function referenceColumns(table: ReferenceTable): { columns: readonly Column[]; diagnostics: Diagnostic[] } {
  const declared = new Map(table.contract?.columns.map((c) => [c.name, c]));
  const diagnostics: Diagnostic[] = table.contract ? leftDiagnostics(table, table.contract) : [];
  for (const c of declared.values()) {
    if (table.header.includes(c.name)) continue;
    const undeclared = table.header.filter((h) => !declared.has(h));
    diagnostics.push(errorAt({ path: table.path, range: c.range }, notInHeader(c.name, table.csvPath, undeclared)));
  }
  for (const name of table.contract ? table.header : []) {
    if (declared.has(name)) continue;
    const missing = [...declared.keys()].filter((t) => !table.header.includes(t));
    diagnostics.push(
      errorAt({ path: table.path, range: table.nameRange }, headerNotDeclared(name, table.csvPath, missing)),
    );
  }
  const names = table.contract ? [...declared.keys()] : table.header;
  return {
    columns: names.map((name) => declaredColumn(name, declared.get(name)?.type ?? 'text')),
    diagnostics,
  };
}
