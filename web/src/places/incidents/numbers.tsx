import type { IncidentEntry } from '@ouvrage/api/incident';
import { useMemo, useState } from 'react';
import { useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { spell } from './words';
import { Empty } from '../../shared/ui/empty';

type By = 'month' | 'table' | 'owner' | 'severity';
const BY: readonly By[] = ['month', 'table', 'owner', 'severity'];

export interface NumbersRow {
  readonly name: string;
  readonly opened: number;
  readonly closed: number;
  readonly reopened: number;
  /** Medians, in milliseconds; null where there are none. */
  readonly noticed: number | null;
  readonly lasted: number | null;
}

/** How many incidents there were, how long until they were noticed and closed: by month, table, owner or severity. */
export function numbersOf(
  incidents: readonly IncidentEntry[],
  namesOf: (incident: IncidentEntry) => readonly string[],
): NumbersRow[] {
  const groups = new Map<string, IncidentEntry[]>();
  for (const i of incidents) for (const name of new Set(namesOf(i))) groups.set(name, [...(groups.get(name) ?? []), i]);
  return [...groups].map(([name, of]) => ({
    name,
    opened: of.length,
    closed: of.filter((i) => i.state === 'closed').length,
    reopened: of.reduce((n, i) => n + i.reopened, 0),
    noticed: median(of.map((i) => Math.max(0, Date.parse(i.openedAt) - Date.parse(i.since)))),
    lasted: median(of.flatMap((i) => (i.closedAt === null ? [] : [Date.parse(i.closedAt) - Date.parse(i.openedAt)]))),
  }));
}

function median(values: readonly number[]): number | null {
  if (values.length === 0) return null;
  const sorted = [...values].sort((a, b) => a - b);
  const half = sorted.length >> 1;
  return sorted.length % 2 === 1 ? sorted[half]! : (sorted[half - 1]! + sorted[half]!) / 2;
}

export function Numbers({ incidents }: { incidents: readonly IncidentEntry[] }) {
  const { tables } = useProject();
  const [by, setBy] = useState<By>('month');
  const rows = useMemo(
    () =>
      numbersOf(incidents, (i) => {
        switch (by) {
          case 'month':
            return [i.openedAt.slice(0, 7)];
          case 'table':
            return i.subjects.map((s) => s.table);
          case 'owner':
            return i.subjects.map((s) => tables.get(s.table)?.owner ?? 'no owner');
          case 'severity':
            return [i.severity];
        }
      }),
    [incidents, by, tables],
  );
  const columns: DataColumn<NumbersRow>[] = [
    { id: by, sortBy: (r) => r.name, cell: (r) => r.name },
    { id: 'opened', inFigures: true, sortBy: (r) => r.opened, cell: (r) => r.opened },
    { id: 'closed', inFigures: true, sortBy: (r) => r.closed, cell: (r) => r.closed },
    { id: 'opened again', inFigures: true, sortBy: (r) => r.reopened, cell: (r) => r.reopened },
    { id: 'until noticed (median)', inFigures: true, sortBy: (r) => r.noticed ?? -1, cell: (r) => spell(r.noticed) },
    { id: 'until closed (median)', inFigures: true, sortBy: (r) => r.lasted ?? -1, cell: (r) => spell(r.lasted) },
  ];
  return (
    <section className="min-w-0 flex-1 overflow-auto bg-sheet p-5" aria-label="Numbers">
      <h1 className="sheet-title">{plural(incidents.length, 'incident')}</h1>
      {incidents.length === 0 ? (
        <Empty title="No incidents yet" />
      ) : (
        <>
          <div role="group" aria-label="By" className="flex gap-1 py-3">
            {BY.map((b) => (
              <button
                key={b}
                type="button"
                aria-pressed={by === b}
                onClick={() => setBy(b)}
                className={`h-control-small rounded-edge border px-2 ${by === b ? 'border-plan bg-wash' : 'border-line bg-sheet hover:bg-raised'}`}
              >
                by {b}
              </button>
            ))}
          </div>
          <DataTable
            className="border border-line"
            label={`Numbers by ${by}`}
            columns={columns}
            rows={rows}
            keyOf={(r) => r.name}
          />
        </>
      )}
    </section>
  );
}
