import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { useDeferredValue, useState } from 'react';
import { useAuditInfiniteQuery } from '../../data/people';
import type { AuditEntry } from '@ouvrage/api/people';
import type { ProblemBody } from '@ouvrage/api/problem';
import { moment } from '../../shared/format';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';

/** Who did what, newest first; an administrator's page. */
export function AuditLog() {
  const [typed, setTyped] = useState('');
  const text = useDeferredValue(typed.trim());
  const { data, error, isLoading, isFetchingNextPage, hasNextPage, fetchNextPage, refetch } =
    useAuditInfiniteQuery(text);
  const entries = data?.pages.flat() ?? [];
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle aside="newest first; nobody can change it">Who did what</SectionTitle>
      <div className="flex items-center gap-3">
        <input
          type="search"
          aria-label="Search the log"
          placeholder="A name, an action, a subject"
          maxLength={100}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          className={`${inputClass} min-w-0 flex-1`}
        />
        <a
          className="text-plan underline underline-offset-2"
          href={`/api/audit/export?text=${encodeURIComponent(text)}`}
          download
        >
          Save as CSV
        </a>
      </div>
      {error && <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />}
      {isLoading && <Loading what="Reading the log" />}
      {data && entries.length === 0 && <Empty title={text ? `No log entries match “${text}”` : 'The log is empty'} />}
      {entries.length > 0 && (
        <DataTable className="border border-line" columns={COLUMNS} rows={entries} keyOf={(e) => e.id} />
      )}
      {hasNextPage && (
        <Button tone="quiet" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
          Older entries
        </Button>
      )}
    </section>
  );
}

const COLUMNS: readonly DataColumn<AuditEntry>[] = [
  { id: 'at', look: 'font-mono text-small whitespace-nowrap', cell: (e) => moment(e.at) },
  { id: 'person', look: 'font-medium', cell: (e) => e.person },
  { id: 'did', cell: (e) => e.action },
  { id: 'to', cell: (e) => <Subject entry={e} /> },
];

function Subject({ entry }: { entry: AuditEntry }) {
  const detail = entry.detail && Object.entries(entry.detail).filter(([, v]) => v !== null && String(v) !== '');
  return (
    <>
      <span className="font-mono text-small break-all">{entry.subject}</span>
      {detail?.map(([key, value]) => (
        <span key={key} className="block text-small break-all text-soft">
          {key} {Array.isArray(value) ? value.join(', ') : String(value)}
        </span>
      ))}
    </>
  );
}
