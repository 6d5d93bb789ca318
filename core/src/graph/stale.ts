import { isView } from '../language/policies.js';
import type { Project, Table } from '../model/project.js';
import { fingerprints } from './fingerprint.js';

/** What is known of a table's last load. */
export interface LastLoad {
  readonly fingerprint: string;
  /** Milliseconds since 1970. */
  readonly at: number;
}

/**
 * Tables that a load would change, or may: not built, of another definition, older than something that they read, also
 * through views, or of a query that asks what time it is and was not loaded today.
 * @param today when the day began, in milliseconds since 1970
 */
export function staleTables(project: Project, loads: ReadonlyMap<string, LastLoad>, today: number): Set<string> {
  const prints = fingerprints(project);
  const stale = new Set<string>();
  /** When the newest rows came that a reader of a table sees. */
  const newest = new Map<string, number>();
  const asksTime = (table: Table): boolean =>
    table.kind === 'definition' && (table.query?.moments.some((m) => m.kind === 'time') ?? false);
  for (const name of project.order) {
    const table = project.tables.get(name)!;
    const load = loads.get(name);
    const reads = project.reads.get(name) ?? [];
    const inputs = Math.max(0, ...reads.map((r) => newest.get(r) ?? 0));
    if (table.kind === 'source') {
      newest.set(name, load?.at ?? 0);
      continue;
    }
    const isSeen = table.kind === 'definition' && isView(table);
    const isOther = load === undefined || load.fingerprint !== prints.get(name);
    const isBehind = !isSeen && load !== undefined && (inputs > load.at || (asksTime(table) && load.at < today));
    if (isOther || isBehind || reads.some((r) => stale.has(r))) stale.add(name);
    newest.set(name, isSeen ? inputs : (load?.at ?? 0));
  }
  return stale;
}
