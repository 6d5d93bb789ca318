import type { Job, Table } from '../model/project.js';

/** What a table is called in its file: of a fan-out one name for all its tables. */
export const declaredName = (table: Table): string =>
  table.kind === 'definition' && table.each ? table.each.declared : table.fullName;

/** The tables that a job loads, by their names or by those of their layers; a fan-out's schemas are its file's layer's. */
export function jobTables(
  { tables, layers }: Pick<Job, 'tables' | 'layers'>,
  all: ReadonlyMap<string, Table>,
): string[] {
  const named = new Set(tables.map((t) => `${t.layer}.${t.name}`));
  const whole = new Set(layers.map((l) => l.name));
  return [...all.values()].flatMap((t) => {
    if (t.kind === 'source') return [];
    const declared = declaredName(t);
    const isLoaded = named.has(t.fullName) || named.has(declared) || whole.has(declared.split('.')[0]!);
    return isLoaded ? [t.fullName] : [];
  });
}
