import { reachable } from '../graph/graph.js';
import { watermarkOf } from '../intake/intake.js';
import { keepsRows } from '../language/policies.js';
import { specOf } from '../language/spec.js';
import type { Definition, Project, SourceTable } from '../model/project.js';
import { renamedTables } from './changes.js';

/** Whether a table is again what it was when production goes back by the copies that releases have kept. */
export type ComesBack = 'comes back' | 'comes back in part' | 'lost';

/** A table that production gets back, and as what. */
export interface RestoredTable {
  readonly table: string;
  readonly mark: ComesBack;
  /** What is not as it was, or where its rows come from if not from a copy; empty where there is nothing to say. */
  readonly why: string;
}

/**
 * What becomes of the tables that production gets back. What is loaded after it reads today's inputs from where the
 * copies end, so that only what the inputs have forgotten since does not come again.
 * @param earlier the project that is gone back to
 * @param now what production runs
 * @param tables those that have changed since, in any order
 * @param copies tables of which a copy is left
 */
export function restoredTables(
  earlier: Project,
  now: Project,
  { tables, copies }: { readonly tables: ReadonlySet<string>; readonly copies: ReadonlySet<string> },
): RestoredTable[] {
  return earlier.order
    .concat([...earlier.tables.keys()].filter((t) => !earlier.order.includes(t)))
    .filter((name) => tables.has(name))
    .map((name): RestoredTable => {
      const table = earlier.tables.get(name)!;
      if (table.kind === 'source') return restoredSource(table, now, copies.has(name));
      if (table.kind === 'reference' || !keepsRows(table))
        return { table: name, mark: 'comes back', why: copies.has(name) ? '' : 'it is built from its query' };
      if (!copies.has(name))
        return { table: name, mark: 'lost', why: 'no copy of its rows is left: it begins with none' };
      const why = forgotten(earlier, table);
      return { table: name, mark: why === '' ? 'comes back' : 'comes back in part', why };
    });
}

function restoredSource(table: SourceTable, now: Project, isCopied: boolean): RestoredTable {
  const name = table.fullName;
  const today = now.tables.get(name);
  if (today?.kind !== 'source')
    return isCopied
      ? { table: name, mark: 'comes back', why: '' }
      : { table: name, mark: 'comes back in part', why: 'no copy is left: it has what its source has today' };
  const has = new Set(today.contract.columns.map((c) => c.name));
  const empty = table.contract.columns.filter((c) => !has.has(c.name)).map((c) => c.name);
  if (watermarkOf(table) === undefined || empty.length === 0)
    return { table: name, mark: 'comes back', why: 'today’s rows, in the earlier columns' };
  return { table: name, mark: 'comes back in part', why: `today’s rows, in which ${empty.join(', ')} is empty` };
}

/** What of a table's rows between the copy and today no load can find again; empty where it finds all. */
function forgotten(project: Project, table: Definition): string {
  if (specOf(table).kind === 'history') return 'versions that were opened since are lost';
  const replaced = [...reachable(project.needs, [table.fullName]).keys()].filter((name) => {
    const input = project.tables.get(name);
    return (
      input?.kind === 'source' &&
      watermarkOf(input) === undefined &&
      project.servers.get(input.server)?.wrapper !== 'file_fdw'
    );
  });
  return replaced.length === 0 ? '' : `rows that ${replaced.join(', ')} had for a while since do not come again`;
}

/**
 * What tables of an earlier project are called after a row of releases.
 * @param releases the projects before and after each, the first one first
 * @returns the present name by the earlier one, of those that bear another one
 */
export function namesSince(
  releases: readonly { readonly before: Project; readonly after: Project }[],
): Map<string, string> {
  const names = new Map<string, string>();
  for (const { before, after } of releases)
    for (const [now, was] of renamedTables(before, after)) {
      const [first = was] = [...names].find(([, present]) => present === was) ?? [];
      names.set(first, now);
    }
  return names;
}
