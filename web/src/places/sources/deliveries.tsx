import { Fragment, useState } from 'react';
import { useDeliveriesQuery, useRejectsQuery, useRetryDeliveryMutation } from '../../data/deliveries';
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
  repeated: 'the same as before: not loaded again',
  failed: 'failed',
  unknown: 'failed: no table matches this file name',
};
const STATES = Object.keys(SAID) as DeliveryEntry['state'][];
const COLUMNS = ['delivered file', 'result', 'rows', 'set aside', 'took', 'when'];
const IN_FIGURES = ['rows', 'set aside', 'took'];

/** All files that ever came, newest first, to be searched; with what was set aside of each. @param reason why one may not take a file again */
export function Deliveries({ reason }: { reason: string | undefined }) {
  const [search, setSearch] = useState('');
  const [state, setState] = useState<DeliveryEntry['state'] | ''>('');
  // Each page begins behind the last file of the one before.
  const [pages, setPages] = useState<readonly (number | undefined)[]>([undefined]);
  const narrow = (change: () => void) => {
    change();
    setPages([undefined]);
  };
  return (
    <section aria-label="Delivered files">
      <div className="flex items-center gap-3 border-b border-rule px-3 py-1.5">
        <input
          type="search"
          aria-label="Search delivered files"
          placeholder="file, table or reason"
          value={search}
          onChange={(e) => narrow(() => setSearch(e.target.value))}
          className="h-control-small w-64 rounded-edge border border-rule bg-raised px-2"
        />
        <select
          aria-label="Result"
          value={state}
          onChange={(e) => narrow(() => setState(e.target.value as typeof state))}
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
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-rule text-small">
            {COLUMNS.map((h) => (
              <th key={h} className={`px-3 py-1 font-medium ${IN_FIGURES.includes(h) ? 'text-right' : ''}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        {pages.map((before, i) => (
          <Page
            key={before ?? 'newest'}
            search={search}
            state={state}
            before={before}
            reason={reason}
            isLast={i === pages.length - 1}
            onMore={(last) => setPages([...pages, last])}
          />
        ))}
      </table>
    </section>
  );
}

interface PageProps {
  readonly search: string;
  readonly state: DeliveryEntry['state'] | '';
  readonly before: number | undefined;
  readonly reason: string | undefined;
  readonly isLast: boolean;
  readonly onMore: (last: number) => void;
}

function Page({ search, state, before, reason, isLast, onMore }: PageProps) {
  const { data, error, refetch } = useDeliveriesQuery(
    {
      ...(search.trim() ? { search: search.trim() } : {}),
      ...(state ? { state } : {}),
      ...(before === undefined ? {} : { before }),
    },
    { pollingInterval: before === undefined ? 10_000 : 0, skipPollingIfUnfocused: true },
  );
  const note = (children: React.ReactNode) => (
    <tbody>
      <tr>
        <td colSpan={COLUMNS.length} className="px-3 py-2 text-soft">
          {children}
        </td>
      </tr>
    </tbody>
  );
  if (error) return note(<ProblemNote problem={error as ProblemBody} again={() => void refetch()} />);
  if (!data) return note(<Loading what="Reading the deliveries" />);
  if (data.files.length === 0 && before === undefined)
    return note(
      search || state
        ? 'No files match.'
        : 'No file has come yet. Put one into the folder, under a name that a pattern takes.',
    );
  return (
    <tbody>
      {data.files.map((f) => (
        <FileRow key={f.id} file={f} reason={reason} />
      ))}
      {isLast && data.more && (
        <tr>
          <td colSpan={COLUMNS.length} className="px-3 py-1.5">
            <Button onClick={() => onMore(data.files.at(-1)!.id)}>Show earlier files</Button>
          </td>
        </tr>
      )}
    </tbody>
  );
}

function FileRow({ file: f, reason }: { file: DeliveryEntry; reason: string | undefined }) {
  const [isOpen, setOpen] = useState(false);
  const [retry, { isLoading }] = useRetryDeliveryMutation();
  const tell = useTell();
  const isWrong = f.state === 'failed' || f.state === 'unknown';
  const hasRejects = Number(f.rejects ?? '0') > 0;
  const again = (
    <Button
      disabled={isLoading}
      {...(reason === undefined ? {} : { reason })}
      onClick={() => void retry(f.id).unwrap().catch(tell.problem)}
    >
      Retry
    </Button>
  );
  return (
    <Fragment>
      <tr className="border-b border-line align-baseline">
        <td className="max-w-72 px-3 py-1 font-mono text-small break-words">{f.file}</td>
        <td className="px-3">
          <span className="inline-flex items-baseline gap-1.5">
            <VerdictMark
              verdict={
                f.state === 'loaded' ? 'holds' : f.state === 'empty' || f.state === 'repeated' ? 'not run' : 'broken'
              }
              size={10}
              label={f.state}
            />
            {SAID[f.state]}
          </span>
          {f.reason && f.state !== 'repeated' && (
            <span className={`block text-small break-words ${isWrong ? 'text-broken' : 'text-soft'}`}>{f.reason}</span>
          )}
          {isWrong && <span className="block py-1">{again}</span>}
        </td>
        <td className="px-3 text-right font-mono text-small">{count(f.rows)}</td>
        <td className="px-3 text-right font-mono text-small">
          {hasRejects ? (
            <button
              type="button"
              aria-expanded={isOpen}
              onClick={() => setOpen(!isOpen)}
              className="text-plan underline underline-offset-2"
            >
              {count(f.rejects)}
            </button>
          ) : (
            count(f.rejects)
          )}
        </td>
        <td className="px-3 text-right font-mono text-small">{duration(f.milliseconds)}</td>
        <td className="px-3 whitespace-nowrap">{ago(f.at)}</td>
      </tr>
      {isOpen && (
        <tr className="border-b border-line bg-wash">
          <td colSpan={COLUMNS.length} className="px-3 py-2">
            <Rejects file={f}>{again}</Rejects>
          </td>
        </tr>
      )}
    </Fragment>
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
