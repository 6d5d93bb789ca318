import type { LoadEntry } from '@ouvrage/api/quality';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { useState } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useFileAtQuery, useHistoryQuery } from '../../data/workspaces';
import { useLoadsQuery } from '../../data/quality';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { LoadCounts } from '@ouvrage/api/run';
import { Diff } from '../../shared/diff';
import { between, count, duration, moment, shortCommit } from '../../shared/format';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { StepWord } from '../../shared/run-words';

/** The commits of a table's file, with what each changed, and its loads. */
export function PastFacet({ path, table }: { path: string; table: string }) {
  const { slug } = useProject();
  const { data: commits, error, isLoading } = useHistoryQuery({ slug, path });
  const { data: loads = [] } = useLoadsQuery({ slug, table });
  const [chosen, setChosen] = useState<string>();
  const commit = chosen ?? commits?.[0]?.id;
  if (isLoading) return <Loading what="Reading the past" />;
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  return (
    <div className="grid h-full min-h-0 grid-rows-[minmax(0,1fr)_minmax(0,1fr)]">
      <section className="flex min-h-0 border-b border-rule" aria-label="Commits">
        <div className="w-75 shrink-0 overflow-auto border-r border-line">
          <div className="px-3.5 py-2">
            <SectionTitle aside={path}>Commits</SectionTitle>
          </div>
          {commits?.length === 0 && <p className="px-3.5 text-soft">The file is not committed yet.</p>}
          <ul>
            {commits?.map((c) => (
              <li key={c.id} className="border-t border-line">
                <button
                  type="button"
                  aria-current={c.id === commit ? 'true' : undefined}
                  onClick={() => setChosen(c.id)}
                  className={`w-full border-l-3 px-3 py-1.5 text-left ${c.id === commit ? 'border-plan bg-raised' : 'border-transparent hover:bg-wash/60'}`}
                >
                  <span className="block truncate font-medium">{c.message.split('\n')[0]}</span>
                  <span className="text-small text-soft">
                    {c.author}, {moment(c.at)}, <span className="font-mono">{shortCommit(c.id)}</span>
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </div>
        <div className="min-w-0 flex-1">
          {commit ? <CommitDiff slug={slug} path={path} commit={commit} /> : <Empty title="No commit yet" />}
        </div>
      </section>
      <section className="min-h-0 overflow-auto px-3.5 py-2" aria-label="Loads">
        <SectionTitle aside="newest first">Loads</SectionTitle>
        {loads.length === 0 ? (
          <Empty title="Never loaded">
            <p>Run the table to load it.</p>
          </Empty>
        ) : (
          <DataTable className="mt-1.5" columns={loadColumns(slug)} rows={loads} keyOf={(l) => l.run} />
        )}
      </section>
    </div>
  );
}

/** `2 inserted, 1 updated`; kinds of which there was nothing are left out. */
function done(counts: LoadCounts | null): string {
  if (!counts) return '';
  const kinds = Object.entries(counts).filter(([, n]) => n > 0);
  return kinds.length ? kinds.map(([kind, n]) => `${count(n)} ${kind}`).join(', ') : 'nothing changed';
}

function CommitDiff({ slug, path, commit }: { slug: string; path: string; commit: string }) {
  const { data, isFetching } = useFileAtQuery({ slug, path, commit });
  if (isFetching || !data) return <Loading what="Comparing" />;
  return <Diff path={path} before={data.before ?? ''} after={data.text ?? ''} />;
}

const loadColumns = (slug: string): DataColumn<LoadEntry>[] => [
  {
    id: 'run',
    cell: (l) => (
      <Link className="text-plan underline underline-offset-2" to={address.run(slug, l.run)}>
        {l.run}
      </Link>
    ),
  },
  { id: 'ended', cell: (l) => <StepWord state={l.state} /> },
  { id: 'environment', cell: (l) => l.environment },
  { id: 'by', look: 'whitespace-nowrap', cell: (l) => l.person },
  { id: 'rows', inFigures: true, sortBy: (l) => numberOf(l.rowsIn), cell: (l) => count(l.rowsIn) },
  {
    id: 'what the load did',
    look: 'w-full max-w-0 truncate text-small',
    cell: (l) => <span title={done(l.counts)}>{done(l.counts)}</span>,
  },
  {
    id: 'took',
    inFigures: true,
    look: 'whitespace-nowrap',
    sortBy: (l) => between(l.startedAt, l.finishedAt) ?? undefined,
    cell: (l) => duration(between(l.startedAt, l.finishedAt)),
  },
  { id: 'when', look: 'font-mono text-small whitespace-nowrap', cell: (l) => moment(l.finishedAt) },
  { id: 'commit', look: 'font-mono text-small', cell: (l) => shortCommit(l.commit) },
];

const numberOf = (text: string | null) => (text === null ? undefined : Number(text));
