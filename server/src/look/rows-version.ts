import { isView } from '@ouvrage/core/language';
import type { Project } from '@ouvrage/core/model';
import type { Standing } from '../warehouse/loaded.js';

/**
 * Tells the rows of tables from later ones, by the loads that made them: of a view, and of a table that is not built,
 * by those of what it reads.
 * @returns undefined where a table is not the project's, so that nothing is known of its rows
 */
export function rowsVersion(
  project: Project,
  tables: Iterable<string>,
  standings: ReadonlyMap<string, Standing>,
): string | undefined {
  const all = new Set(tables);
  const loads: string[] = [];
  for (const name of all) {
    const table = project.tables.get(name);
    if (!table) return undefined;
    const standing = standings.get(name);
    const { fingerprint = '', runId = '', at = '' } = standing?.loaded ?? {};
    loads.push(`${name} ${standing?.where ?? ''} ${fingerprint} ${runId} ${at}`);
    if (!standing?.place || (table.kind === 'definition' && isView(table)))
      for (const read of project.reads.get(name) ?? []) all.add(read);
  }
  return loads.sort().join('\n');
}
