import { isView } from '../language/policies.js';
import { lookedUpTable } from '../language/contract.js';
import type { Definition, Table } from '../model/project.js';

/** Source tables that are brought in past a watermark only, as a query reads them: directly or through views. */
export function partialInputs(table: Definition, tables: ReadonlyMap<string, Table>): string[] {
  if (!table.contract?.options.has('missing_rows')) return [];
  const found = new Set<string>();
  const seen = new Set<Definition>();
  const open = [table];
  for (let definition = open.pop(); definition; definition = open.pop()) {
    if (seen.has(definition)) continue;
    seen.add(definition);
    for (const mention of definition.query?.tables ?? []) {
      const input = tables.get(`${mention.layer ?? ''}.${mention.name}`);
      if (input?.kind === 'source' && input.contract.options.get('intake')?.value === 'incremental')
        found.add(input.fullName);
      if (input?.kind === 'definition' && isView(input)) open.push(input);
    }
  }
  return [...found];
}

/** The tables in which a table's load looks keys up. */
export function dimensionsOf(table: Definition, tables: ReadonlyMap<string, Table>): string[] {
  const found: string[] = [];
  for (const { name, options } of table.contract?.columns ?? []) {
    const other = options['looked_up_by'] === undefined ? undefined : lookedUpTable(table, name);
    if (other !== undefined && tables.has(other)) found.push(other);
  }
  return found;
}
