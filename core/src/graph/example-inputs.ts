import { dimensionsOf } from './inputs.js';
import type { Definition, Table } from '../model/project.js';

/** What a worked example of a definition has to give. */
export interface ExampleInputs {
  /** Tables that the query reads, itself not among them: an earlier load or `target.csv` fills it. */
  readonly inputs: readonly string[];
  /** Dimensions in which the load looks keys up and that the query does not read. */
  readonly members: readonly string[];
}

/** What a worked example of a definition has to give. @param reads for each table, the tables that it reads */
export function exampleInputs(
  table: Definition,
  {
    reads,
    tables,
  }: { readonly reads: ReadonlyMap<string, readonly string[]>; readonly tables: ReadonlyMap<string, Table> },
): ExampleInputs {
  const dimensions = [...new Set(dimensionsOf(table, tables))];
  const mentioned = new Set((table.query?.tables ?? []).map((t) => `${t.layer ?? ''}.${t.name}`));
  const inputs = (reads.get(table.fullName) ?? []).filter(
    (t) => t !== table.fullName && t !== table.each?.declared && (mentioned.has(t) || !dimensions.includes(t)),
  );
  const members = dimensions.filter((t) => !inputs.includes(t));
  return { inputs, members };
}

/** The definition that examples of a name are about: of a fan-out, its first table. */
export function exampleDefinition(name: string, tables: ReadonlyMap<string, Table>): Definition | undefined {
  const found = tables.get(name);
  if (found) return found.kind === 'definition' ? found : undefined;
  for (const table of tables.values()) if (table.kind === 'definition' && table.each?.declared === name) return table;
  return undefined;
}
