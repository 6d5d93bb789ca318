import { useEffect, useState } from 'react';
import { Link } from 'react-router';
import type { Unread } from '@ouvrage/core/lineage';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Loading } from '../../shared/ui/loading';
import { SectionTitle } from '../../shared/ui/section-title';
import { VirtualList } from '../../shared/ui/virtual-list';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';

/** Tables and columns that nothing in the project reads; undefined while they are looked for. */
export function useUnread(): Unread | undefined {
  const { summary } = useProject();
  const tell = useTell();
  const [found, setFound] = useState<{ of: unknown; unread: Unread }>();
  useEffect(() => {
    let current = true;
    projectWorker.ask<'unread'>({ kind: 'unread' }).then(
      (unread) => current && setFound({ of: summary, unread }),
      (error: Error) => current && tell.problem(readerProblem(error)),
    );
    return () => {
      current = false;
    };
  }, [summary, tell]);
  return found?.of === summary ? found.unread : undefined;
}

/** What nobody reads, to be looked through: people and programs outside of the project may. */
export function UnreadPanel({ unread, onClose }: { unread: Unread | undefined; onClose: () => void }) {
  const { slug } = useProject();
  return (
    <aside
      aria-label="Unread tables and columns"
      className="flex w-82.5 shrink-0 flex-col gap-3 border-l border-line bg-paper p-4"
    >
      <div className="flex items-center justify-between">
        <h2 className="sheet-title">Unread</h2>
        <Button tone="quiet" onClick={onClose}>
          Close
        </Button>
      </div>
      <p className="text-small text-soft">
        No table and no check of the project reads these. Reports and programs outside of it may.
      </p>
      {!unread ? (
        <Loading what="Looking for what nobody reads" />
      ) : (
        <>
          <SectionTitle>{plural(unread.tables.length, 'table')}</SectionTitle>
          <VirtualList label="Unread tables" items={unread.tables} keyOf={(t) => t} height={25} className="max-h-48">
            {(table) => (
              <Link to={address.lineage(slug, table)} className="block truncate hover:text-plan hover:underline">
                {table}
              </Link>
            )}
          </VirtualList>
          <SectionTitle>{plural(unread.columns.length, 'column')}</SectionTitle>
          <VirtualList
            label="Unread columns"
            items={unread.columns}
            keyOf={(c) => `${c.table}.${c.column}`}
            height={25}
            className="min-h-0 flex-1"
          >
            {(c) => (
              <Link to={address.way(slug, c)} className="block truncate hover:text-plan hover:underline">
                <span className="text-soft">{c.table}.</span>
                {c.column}
              </Link>
            )}
          </VirtualList>
        </>
      )}
    </aside>
  );
}
