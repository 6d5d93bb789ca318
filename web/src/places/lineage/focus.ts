import { reachable } from '@ouvrage/core/graph';
import type { TableSummary } from '../../worker/protocol';

export interface Shown {
  readonly tables: readonly TableSummary[];
  /** From what is read to its reader. */
  readonly edges: readonly (readonly [string, string])[];
}

/** The tables around one, so many steps up and down; all tables without a focus. */
export function focusOn(tables: readonly TableSummary[], focus: string | undefined, up: number, down: number): Shown {
  const reads = new Map(tables.map((t) => [t.fullName, t.reads]));
  const readers = new Map<string, string[]>();
  for (const t of tables) for (const r of t.reads) readers.set(r, [...(readers.get(r) ?? []), t.fullName]);
  const kept =
    focus && reads.has(focus)
      ? new Set([...reachable(reads, [focus], up).keys(), ...reachable(readers, [focus], down).keys()])
      : new Set(reads.keys());
  const shown = tables.filter((t) => kept.has(t.fullName));
  const names = new Set(shown.map((t) => t.fullName));
  const edges = shown.flatMap((t) => t.reads.filter((r) => names.has(r)).map((r) => [r, t.fullName] as const));
  return { tables: shown, edges };
}
