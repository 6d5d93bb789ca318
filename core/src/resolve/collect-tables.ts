import { errorAt, type Diagnostic } from '../model/diagnostic.js';
import { addLayer, duplicateTable, unknownLayer, withoutCsv } from './messages.js';
import type { Definition, IndexedFile, Layer, Table } from '../model/project.js';
import { fanOut, fansOut } from './fan-out.js';
import { withContract } from './reference-contract.js';
import { unreadDates } from './rules/reference/dates.js';

/** The tables of a project by full name, and the names of each layer's. */
export interface CollectedTables {
  readonly tables: ReadonlyMap<string, Table>;
  readonly byLayer: ReadonlyMap<string, ReadonlySet<string>>;
  readonly diagnostics: readonly Diagnostic[];
}

/** The second phase: tables of all files, reference tables with their contracts, and one table a row for lists. */
export function collectTables(files: ReadonlyMap<string, IndexedFile>, layers: readonly Layer[]): CollectedTables {
  const tables = new Map<string, Table>();
  const byLayer = new Map<string, Set<string>>(layers.map((l) => [l.name, new Set()]));
  const diagnostics: Diagnostic[] = [];
  const add = (table: Table): void => {
    const other = tables.get(table.fullName);
    if (other) {
      diagnostics.push(duplicateTable(placeOf(table), table.fullName, placeOf(other)));
      return;
    }
    tables.set(table.fullName, table);
    if (!(table.kind === 'definition' && table.each)) byLayer.get(table.layer)?.add(table.name);
  };
  const contracts: Definition[] = [];
  const fanning: Definition[] = [];
  for (const file of files.values())
    for (const table of file.tables) {
      if (!byLayer.has(table.layer))
        diagnostics.push(errorAt(placeOf(table), unknownLayer(table.layer, byLayer.keys(), addLayer(table.layer))));
      if (table.kind === 'definition' && table.layer === 'reference') contracts.push(table);
      else if (table.kind === 'definition' && fansOut(table)) fanning.push(table);
      else add(table);
    }
  for (const contract of contracts) {
    const csv = tables.get(contract.fullName);
    if (csv?.kind !== 'reference') {
      diagnostics.push(errorAt(placeOf(contract), withoutCsv(contract.path)));
      continue;
    }
    const table = withContract(csv, contract);
    tables.set(contract.fullName, table);
    diagnostics.push(...unreadDates(table, files.get(csv.csvPath)!));
  }
  for (const table of fanning) {
    const found = fanOut(table, tables, layers, (list) => files.get(list.csvPath));
    diagnostics.push(...found.diagnostics);
    for (const each of found.tables) add(each);
  }
  return { tables, byLayer, diagnostics };
}

const placeOf = ({ path, nameRange: range }: Table) => ({ path, range });
