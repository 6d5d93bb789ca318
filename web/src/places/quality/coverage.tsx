import { useMemo, useState } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Empty } from '../../shared/ui/empty';
import type { TableSummary } from '../../worker/protocol';

interface Covered {
  readonly table: TableSummary;
  readonly hasKeyCheck: boolean;
  readonly checks: number;
}

const KEYS: ReadonlySet<string> = new Set(['primary key', 'unique']);

/** Tables that lack a check on their key, a description or an owner. Tables of sources are checked where they are read. */
export function Coverage() {
  const { slug, summary, checks, layerPosition } = useProject();
  const [scroller, setScroller] = useState<HTMLElement | null>(null);
  const tables = useMemo(() => {
    const keyed = new Set(checks.filter((c) => KEYS.has(c.kind)).map((c) => c.table));
    const counts = new Map<string, number>();
    for (const c of checks) counts.set(c.table, (counts.get(c.table) ?? 0) + 1);
    return summary.tables
      .filter((t) => t.kind !== 'source')
      .map((table): Covered => ({
        table,
        hasKeyCheck: keyed.has(table.fullName),
        checks: counts.get(table.fullName) ?? 0,
      }));
  }, [summary.tables, checks]);
  const lacking = tables.filter((t) => !t.hasKeyCheck || !t.table.comment || !ownerOf(t.table));
  if (lacking.length === 0) return <Empty title="Every table has a check on its key, a description and an owner" />;
  const columns: DataColumn<Covered>[] = [
    {
      id: 'table',
      sortBy: (t) => t.table.fullName,
      cell: (t) => (
        <span className="flex items-center gap-2.5">
          <Hatch position={Math.max(0, layerPosition(t.table.fullName))} />
          <Link className="text-plan underline underline-offset-2" to={address.table(slug, t.table.fullName)}>
            {t.table.fullName}
          </Link>
        </span>
      ),
    },
    { id: 'check on the key', sortBy: (t) => Number(t.hasKeyCheck), cell: (t) => <Has is={t.hasKeyCheck} /> },
    {
      id: 'description',
      sortBy: (t) => Number(Boolean(t.table.comment)),
      cell: (t) => <Has is={Boolean(t.table.comment)} />,
    },
    {
      id: 'owner',
      sortBy: (t) => ownerOf(t.table) ?? '',
      cell: (t) => (ownerOf(t.table) === undefined ? <Has is={false} /> : ownerOf(t.table)),
    },
    { id: 'checks', inFigures: true, sortBy: (t) => t.checks, cell: (t) => t.checks },
  ];
  return (
    <div
      ref={setScroller}
      className="min-h-0 flex-1 overflow-auto px-4 py-3"
      tabIndex={0}
      role="group"
      aria-label="Coverage"
    >
      <p className="pb-2 text-soft">
        {plural(lacking.length, 'table')} of {tables.length} lack a check on the key, a description or an owner.
      </p>
      <DataTable
        label="Coverage"
        columns={columns}
        rows={lacking}
        keyOf={(t) => t.table.fullName}
        virtual={{ scroller, height: 30 }}
      />
    </div>
  );
}

const ownerOf = (t: TableSummary): string | undefined => t.owner ?? t.carriedOwners?.[0]?.owner;

const Has = ({ is }: { is: boolean }) =>
  is ? (
    <VerdictMark verdict="holds" size={10} label="has one" />
  ) : (
    <span className="flex items-center gap-2 text-advisory-text">
      <VerdictMark verdict="not run" size={10} label="none" /> none
    </span>
  );
