import type { CheckState, QualityDays } from '@ouvrage/api/quality';
import type { WatchFinding } from '@ouvrage/api/watch';
import type { Verdict } from '@ouvrage/core/check';
import { plural } from '../../shared/format';
import type { TableSummary } from '../../worker/protocol';
import type { SheetRow } from './day-sheet';
import { findingWords } from '../../shared/watch-words';

export const VERDICTS: readonly Verdict[] = ['broken', 'advisory', 'not run', 'holds'];

export interface QualityRow extends SheetRow {
  readonly layerName: string;
  readonly owner: string | undefined;
  /** Verdicts on its checks as they are now. */
  readonly found: ReadonlySet<Verdict>;
}

/** Which tables are shown: those with a check of a verdict, of a layer, of an owner. */
export interface Narrowing {
  readonly verdict?: Verdict | undefined;
  readonly layer?: string | undefined;
  readonly owner?: string | undefined;
}

/** Tables in the order of their layers: those with checks, and those of which anything ran in the days. */
export function sheetRows({
  tables,
  checks,
  days,
  findings,
  layerPosition,
}: {
  readonly tables: readonly TableSummary[];
  readonly checks: readonly CheckState[];
  readonly days: QualityDays | undefined;
  /** What watches tell of production's tables. */
  readonly findings: readonly WatchFinding[];
  readonly layerPosition: (table: string) => number;
}): QualityRow[] {
  const byTable = new Map<string, CheckState[]>();
  for (const c of checks) byTable.set(c.table, [...(byTable.get(c.table) ?? []), c]);
  const told = new Map(findings.map((f) => [f.table, f]));
  const ran = new Map(days?.tables.map((t) => [t.table, t.verdicts]));
  return tables
    .filter((t) => byTable.has(t.fullName) || ran.has(t.fullName))
    .map((t) => {
      const of = byTable.get(t.fullName) ?? [];
      return {
        table: t.fullName,
        layer: Math.max(0, layerPosition(t.fullName)),
        layerName: t.layer,
        owner: t.owner ?? t.carriedOwners?.[0]?.owner,
        verdicts: ran.get(t.fullName) ?? [],
        now: nowOf(of, told.get(t.fullName)),
        found: new Set(of.map((c) => c.verdict)),
      };
    })
    .sort((a, b) => a.layer - b.layer || a.table.localeCompare(b.table));
}

/** What needs an eye now: the worst check, and how many more do not hold; else what a watch tells. */
function nowOf(checks: readonly CheckState[], finding: WatchFinding | undefined): SheetRow['now'] {
  const failing = checks.filter((c) => c.verdict === 'broken' || c.verdict === 'advisory');
  const worst = failing.find((c) => c.verdict === 'broken') ?? failing[0];
  if (finding && worst?.verdict !== 'broken')
    return { to: { measure: finding.measure }, verdict: 'advisory', text: findingWords(finding) };
  if (!worst) return undefined;
  return {
    to: { check: worst.id },
    verdict: worst.verdict,
    text: `${worst.title}${failing.length > 1 ? `, and ${plural(failing.length - 1, 'more check')}` : ''}`,
  };
}

export const narrowed = (rows: readonly QualityRow[], { verdict, layer, owner }: Narrowing): QualityRow[] =>
  rows.filter(
    (r) =>
      (verdict === undefined || r.found.has(verdict)) &&
      (layer === undefined || r.layerName === layer) &&
      (owner === undefined || r.owner === owner),
  );
