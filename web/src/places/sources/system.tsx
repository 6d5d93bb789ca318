import { useState } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import type { SourceSystem } from '@ouvrage/api/source';
import { ago, count, duration } from '../../shared/format';
import { Hatch } from '../../shared/marks';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Tag } from '../../shared/ui/tag';
import { StepWord } from '../../shared/run-words';
import { DriftSheet } from './drift';
import { Late } from './late';
import { useDraftReason } from '../../data/use-draft-reason';
import { useSystem, type SourceRow } from './use-system';

/** One system: its connection, its tables, and when each was last loaded. */
export function System({ system }: { system: SourceSystem }) {
  const { slug, tables } = useProject();
  const { isBringing, isComparing, reasonFor, bring, compareColumns } = useSystem(system);
  const draftReason = useDraftReason();
  const [open, setOpen] = useState<string>();
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null);
  const allReason = reasonFor(system.tables);
  const columns: DataColumn<SourceRow>[] = [
    { id: 'table', sortBy: (t) => t.table, cell: (t) => <TableCell row={t} server={system.server} /> },
    {
      id: 'columns',
      inFigures: true,
      cell: (t) => (
        <button
          type="button"
          aria-expanded={open === t.table}
          aria-label={`Columns of ${t.table}`}
          onClick={() => setOpen(open === t.table ? undefined : t.table)}
          className="text-plan underline underline-offset-2"
        >
          {tables.get(t.table)?.columns?.length ?? 0}
        </button>
      ),
    },
    { id: 'rows', inFigures: true, sortBy: (t) => numberOf(t.rows), cell: (t) => count(t.rows) },
    { id: 'last intake', sortBy: (t) => t.last?.at, cell: (t) => <LastIntake row={t} /> },
    { id: 'rows out', inFigures: true, sortBy: (t) => numberOf(t.last?.rowsOut), cell: (t) => count(t.last?.rowsOut) },
    { id: 'rows in', inFigures: true, sortBy: (t) => numberOf(t.last?.rowsIn), cell: (t) => count(t.last?.rowsIn) },
    {
      id: 'took',
      inFigures: true,
      sortBy: (t) => t.last?.milliseconds ?? undefined,
      cell: (t) => duration(t.last?.milliseconds),
    },
    {
      id: 'action',
      isSilent: true,
      look: 'text-right',
      cell: (t) => {
        const reason = reasonFor([t]);
        return (
          <Button
            tone="quiet"
            aria-label={`Bring in ${t.table}`}
            {...(reason ? { reason } : {})}
            onClick={() => void bring([t])}
          >
            Bring in
          </Button>
        );
      },
    },
  ];
  return (
    <section aria-label={system.server} className="border border-rule">
      <header className="flex items-center gap-4 border-b border-rule bg-paper px-4 py-2.5">
        <div>
          <h1 className="sheet-title">{system.server}</h1>
          <p className="font-mono text-small text-soft">
            {system.connection
              ? `${system.connection.user}@${system.connection.host}:${system.connection.port}/${system.connection.database}`
              : 'not bound to a connection'}{' '}
            · {system.wrapper} ·{' '}
            <Link to={address.file(slug, system.path)} className="text-plan underline underline-offset-2">
              {system.path}
            </Link>
          </p>
        </div>
        <span className="flex-1" />
        <Button
          disabled={isComparing}
          {...(draftReason ? { reason: draftReason } : {})}
          onClick={() => void compareColumns()}
        >
          Compare columns
        </Button>
        <Button
          tone="act"
          disabled={isBringing || system.tables.length === 0}
          {...(allReason ? { reason: allReason } : {})}
          onClick={() => void bring(system.tables)}
        >
          Bring in all {system.tables.length}
        </Button>
      </header>
      <div ref={setScroller} className="max-h-most overflow-auto">
        <DataTable
          columns={columns}
          rows={system.tables}
          keyOf={(t) => t.table}
          virtual={{ scroller, height: 34 }}
          rowLook={(t) => (open === t.table ? 'bg-raised' : '')}
          more={(t) => moreOf(t, open === t.table ? (tables.get(t.table)?.columns ?? []) : undefined)}
        />
      </div>
    </section>
  );
}

const numberOf = (text: string | null | undefined) => (text === null || text === undefined ? undefined : Number(text));

/** A table's name with what is special about it. */
function TableCell({ row, server }: { row: SourceRow; server: string }) {
  const { slug } = useProject();
  const [comparing, setComparing] = useState(false);
  const draftReason = useDraftReason();
  return (
    <>
      <span className="flex items-center gap-2">
        <Hatch position={0} />
        <Link to={address.table(slug, row.table, 'rows')} className="font-medium hover:text-plan hover:underline">
          {row.table}
        </Link>
        {row.incremental && <Tag>incremental</Tag>}
        {!row.sameAsProduction && <Tag tone="advisory">differs from production</Tag>}
        {row.drift && (
          <button
            type="button"
            onClick={() => setComparing(true)}
            className="text-advisory-text underline underline-offset-2"
          >
            drifted
          </button>
        )}
        <Late table={row.table} lateness={row.lateness} />
        {row.comment && <span className="min-w-0 truncate text-small text-soft">{row.comment}</span>}
      </span>
      {comparing && row.drift && (
        <DriftSheet
          server={server}
          table={row.table}
          drift={row.drift}
          comparedAt={row.comparedAt}
          reason={draftReason}
          onClose={() => setComparing(false)}
        />
      )}
    </>
  );
}

function LastIntake({ row: { last } }: { row: SourceRow }) {
  const { slug } = useProject();
  if (!last) return <span className="text-advisory-text">never</span>;
  return (
    <span className="flex gap-2">
      {last.state !== 'done' && <StepWord state={last.state} />}
      <Link to={address.run(slug, last.run)} className="hover:text-plan hover:underline">
        {ago(last.at)}
      </Link>
    </span>
  );
}

type Columns = readonly { readonly name: string; readonly type?: string; readonly isKey: boolean }[];

/** Below a table: why its last intake failed, and its columns where they are opened. */
function moreOf({ last }: SourceRow, columns: Columns | undefined) {
  if (!last?.error && !columns) return null;
  return (
    <div className="pl-6">
      {last?.error && (
        <p className="text-broken">
          {last.error.message} {last.error.detail}
        </p>
      )}
      <ul className="flex flex-wrap gap-x-5 gap-y-1">
        {columns?.map((c) => (
          <li key={c.name} className="flex items-center gap-1.5">
            {c.name} <span className="font-mono text-small text-soft">{c.type}</span> {c.isKey && <Tag>key</Tag>}
          </li>
        ))}
      </ul>
    </div>
  );
}
