import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { useState } from 'react';
import { useDeliveriesInfiniteQuery, useRejectsQuery, useRetryDeliveryMutation } from '../../data/deliveries';
import type { DeliveryEntry } from '@ouvrage/api/delivery';
import type { ProblemBody } from '@ouvrage/api/problem';
import { FaultGrid } from '../../shared/fault-grid';
import { ago, count, duration } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Button } from '../../shared/ui/button';

const SAID: Readonly<Record<DeliveryEntry['state'], string>> = {
  loaded: 'loaded',
  empty: 'empty: nothing changed',
  repeated: 'same content as before: not loaded again',
  failed: 'failed',
  unknown: 'failed: no table matches this file name',
};
const STATES = Object.keys(SAID) as DeliveryEntry['state'][];
/** All files that ever came, newest first, to be searched; with what was set aside of each. @param reason why one may not take a file again */
export function Deliveries({ reason }: { reason: string | undefined }) {
  const [search, setSearch] = useState('');
  const [state, setState] = useState<DeliveryEntry['state'] | ''>('');
  const [opened, setOpened] = useState<ReadonlySet<number>>(new Set());
  const { data, error, isLoading, hasNextPage, isFetchingNextPage, fetchNextPage, refetch } =
    useDeliveriesInfiniteQuery(
      { ...(search.trim() ? { search: search.trim() } : {}), ...(state ? { state } : {}) },
      { pollingInterval: 10_000, skipPollingIfUnfocused: true },
    );
  const files = data?.pages.flatMap((page) => page.files) ?? [];
  const toggle = (id: number) =>
    setOpened((before) => new Set(before.has(id) ? [...before].filter((o) => o !== id) : [...before, id]));
  return (
    <section aria-label="Delivered files">
      <div className="flex items-center gap-3 border-b border-rule px-3 py-1.5">
        <input
          type="search"
          aria-label="Search delivered files"
          placeholder="file, table or reason"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          className="h-control-small w-64 rounded-edge border border-rule bg-raised px-2"
        />
        <select
          aria-label="Result"
          value={state}
          onChange={(e) => setState(e.target.value as typeof state)}
          className="h-control-small rounded-edge border border-rule bg-raised px-1.5"
        >
          <option value="">all outcomes</option>
          {STATES.map((s) => (
            <option key={s} value={s}>
              {SAID[s]}
            </option>
          ))}
        </select>
      </div>
      {error && <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />}
      {isLoading && <Loading what="Reading the deliveries" />}
      {data && files.length === 0 && (
        <p className="px-3 py-2 text-soft">
          {search || state
            ? 'No files match.'
            : 'No files yet. Put one into the folder, under a name that a pattern matches.'}
        </p>
      )}
      {files.length > 0 && (
        <DataTable
          columns={fileColumns(reason, opened, toggle)}
          rows={files}
          keyOf={(f) => f.id}
          more={(f) =>
            opened.has(f.id) ? (
              <Rejects file={f}>
                <Retry file={f} reason={reason} />
              </Rejects>
            ) : null
          }
        />
      )}
      {hasNextPage && (
        <p className="px-3 py-1.5">
          <Button disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
            Show earlier files
          </Button>
        </p>
      )}
    </section>
  );
}

const isWrong = ({ state }: DeliveryEntry) => state === 'failed' || state === 'unknown';

const fileColumns = (
  reason: string | undefined,
  opened: ReadonlySet<number>,
  toggle: (id: number) => void,
): DataColumn<DeliveryEntry>[] => [
  { id: 'delivered file', look: 'max-w-72 font-mono text-small break-words', cell: (f) => f.file },
  { id: 'result', cell: (f) => <Result file={f} reason={reason} /> },
  { id: 'rows', inFigures: true, cell: (f) => count(f.rows) },
  {
    id: 'set aside',
    inFigures: true,
    cell: (f) =>
      Number(f.rejects ?? '0') > 0 ? (
        <button
          type="button"
          aria-expanded={opened.has(f.id)}
          onClick={() => toggle(f.id)}
          className="text-plan underline underline-offset-2"
        >
          {count(f.rejects)}
        </button>
      ) : (
        count(f.rejects)
      ),
  },
  { id: 'took', inFigures: true, cell: (f) => duration(f.milliseconds) },
  { id: 'when', look: 'whitespace-nowrap', cell: (f) => ago(f.at) },
];

/** What a file's arrival came to, and why. */
function Result({ file: f, reason }: { file: DeliveryEntry; reason: string | undefined }) {
  const mark = f.state === 'loaded' ? 'holds' : isWrong(f) ? 'broken' : 'not run';
  return (
    <>
      <span className="inline-flex items-baseline gap-1.5">
        <VerdictMark verdict={mark} size={10} label={f.state} />
        {SAID[f.state]}
      </span>
      {f.reason && f.state !== 'repeated' && (
        <span className={`block text-small break-words ${isWrong(f) ? 'text-broken' : 'text-soft'}`}>{f.reason}</span>
      )}
      {isWrong(f) && (
        <span className="block py-1">
          <Retry file={f} reason={reason} />
        </span>
      )}
    </>
  );
}

/** Reads a file again. */
function Retry({ file, reason }: { file: DeliveryEntry; reason: string | undefined }) {
  const [retry, { isLoading }] = useRetryDeliveryMutation();
  const tell = useTell();
  return (
    <Button
      disabled={isLoading}
      {...(reason === undefined ? {} : { reason })}
      onClick={() => void retry(file.id).unwrap().catch(tell.problem)}
    >
      Retry
    </Button>
  );
}

/** Rows of a file that were set aside, with where they stood and why. */
function Rejects({ file, children }: { file: DeliveryEntry; children: React.ReactNode }) {
  const { data, error, refetch } = useRejectsQuery(file.id);
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!data) return <Loading what="Reading what was set aside" />;
  if (data.rows.length === 0)
    return <p className="text-soft">A later file replaced this one; its rejected rows are no longer kept.</p>;
  return (
    <div className="flex flex-col gap-2">
      <FaultGrid
        title="Rows set aside"
        about={file.file}
        word="set aside of"
        rows={{ columns: ['line', 'column', 'value', 'reason'], rows: data.rows }}
        atFault={data.isFull ? Number(file.rejects) : data.rows.length}
      />
      <div className="flex items-center gap-3">
        <a href={`/api/deliveries/${file.id}/rejects.csv`} download className="text-plan underline underline-offset-2">
          Save as CSV
        </a>
        {children}
        <span className="text-small text-soft">
          Fix the declaration or the file first; rows that are then valid are loaded.
        </span>
      </div>
    </div>
  );
}
