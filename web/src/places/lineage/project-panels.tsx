import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Coverage, Unread } from '@ouvrage/core/lineage';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { count, plural } from '../../shared/format';
import { Button } from '../../shared/ui/button';
import { Loading } from '../../shared/ui/loading';
import { SectionTitle } from '../../shared/ui/section-title';
import { VirtualList } from '../../shared/ui/virtual-list';
import type { ColumnRef } from '../../worker/protocol';

/** What nobody reads, to be looked through: people and programs outside of the project may. */
export function UnreadPanel({ unread, onClose }: { unread: Unread | undefined; onClose: () => void }) {
  const { slug } = useProject();
  return (
    <Panel
      title="Unread"
      label="Unread tables and columns"
      note="No table and no check of the project reads these. Reports and programs outside of it may."
      onClose={onClose}
    >
      {!unread ? (
        <Loading what="Looking for what nobody reads" />
      ) : (
        <>
          <SectionTitle>{plural(unread.tables.length, 'table')}</SectionTitle>
          <VirtualList label="Unread tables" items={unread.tables} keyOf={(t) => t} height={25} className="max-h-48">
            {(table) => (
              <Link
                to={address.lineage(slug, table)}
                className="block min-h-6 truncate leading-6 hover:text-plan hover:underline"
              >
                {table}
              </Link>
            )}
          </VirtualList>
          <SectionTitle>{plural(unread.columns.length, 'column')}</SectionTitle>
          <Columns label="Unread columns" columns={unread.columns} addressOf={(c) => address.way(slug, c)} />
        </>
      )}
    </Panel>
  );
}

/** Which columns say what they mean, by layer, and those that do not, to be worked through. */
export function CoveragePanel({
  coverage,
  onClose,
}: {
  coverage: readonly Coverage[] | undefined;
  onClose: () => void;
}) {
  const { slug } = useProject();
  const missing = coverage?.flatMap((c) => c.missing) ?? [];
  return (
    <Panel
      title="Descriptions"
      label="Descriptions of columns"
      note="A column whose values are another’s, unchanged, carries its description."
      onClose={onClose}
    >
      {!coverage ? (
        <Loading what="Counting descriptions" />
      ) : (
        <>
          <table className="w-full text-small">
            <thead>
              <tr className="text-left text-soft">
                <th className="font-normal">layer</th>
                <th className="text-right font-normal">described</th>
                <th className="text-right font-normal">carried</th>
                <th className="text-right font-normal">missing</th>
              </tr>
            </thead>
            <tbody>
              {coverage.map((c) => (
                <tr key={c.layer} className="border-t border-line">
                  <td className="py-1">{c.layer}</td>
                  <td className="text-right font-mono">{count(c.described)}</td>
                  <td className="text-right font-mono">{count(c.carried)}</td>
                  <td className="text-right font-mono">{count(c.missing.length)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <SectionTitle>{plural(missing.length, 'column')} without a description</SectionTitle>
          <Columns
            label="Columns without a description"
            columns={missing}
            addressOf={(c) => address.table(slug, c.table)}
          />
        </>
      )}
    </Panel>
  );
}

function Panel({
  title,
  label,
  note,
  onClose,
  children,
}: {
  title: string;
  label: string;
  note: string;
  onClose: () => void;
  children: ReactNode;
}) {
  return (
    <aside aria-label={label} className="flex w-82.5 shrink-0 flex-col gap-3 border-l border-line bg-paper p-4">
      <div className="flex items-center justify-between">
        <h2 className="sheet-title">{title}</h2>
        <Button tone="quiet" onClick={onClose}>
          Close
        </Button>
      </div>
      <p className="text-small text-soft">{note}</p>
      {children}
    </aside>
  );
}

function Columns({
  label,
  columns,
  addressOf,
}: {
  label: string;
  columns: readonly ColumnRef[];
  addressOf: (column: ColumnRef) => string;
}) {
  return (
    <VirtualList
      label={label}
      items={columns}
      keyOf={(c) => `${c.table}.${c.column}`}
      height={25}
      className="min-h-0 flex-1"
    >
      {(c) => (
        <Link to={addressOf(c)} className="block min-h-6 truncate leading-6 hover:text-plan hover:underline">
          <span className="text-soft">{c.table}.</span>
          {c.column}
        </Link>
      )}
    </VirtualList>
  );
}
