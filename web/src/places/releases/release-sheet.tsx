import type { ProblemBody } from '@ouvrage/api/problem';
import type { ReleaseDetail } from '@ouvrage/api/release';
import type { Verdict } from '@ouvrage/core/check';
import { useCallback } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useReleasedFileQuery, useReleasedQuery } from '../../data/releases';
import { Diff } from '../../shared/diff';
import { count, moment, plural, rows as rowsWords, shortCommit } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { WayBack } from './way-back';
import { VirtualList } from '../../shared/ui/virtual-list';

/** One release: what it changed and who wrote each line, who approved it, what its run did. */
export function ReleaseSheet({ id, file }: { readonly id: number; readonly file: string | null }) {
  const { slug } = useProject();
  const { currentData, error, refetch } = useReleasedQuery(id);
  if (error)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  if (!currentData) return <Loading what={`Reading release ${id}`} />;
  const { files, message, person, at, workspace } = currentData;
  const shown = files.find((f) => f.path === file) ?? files[0];
  return (
    <div className="flex h-full min-h-0">
      <aside aria-label="Release" className="flex w-65.5 shrink-0 flex-col border-r border-line bg-paper">
        <header className="px-3.5 py-3">
          <p className="caps">Release {id}</p>
          <h1 className="font-cond text-title leading-tight font-semibold break-words">{message}</h1>
          <p className="text-small text-soft">
            {person}, {moment(at)}, from {workspace}
          </p>
        </header>
        <VirtualList label="Files" items={files} keyOf={(f) => f.path} height={38} className="flex-1">
          {(f) => (
            <Link
              to={address.release(slug, id, f.path)}
              aria-current={f === shown ? 'true' : undefined}
              className={`flex justify-between gap-2 border-b border-l-3 border-b-line px-3 py-2 ${f === shown ? 'border-l-plan bg-sheet' : 'border-l-transparent hover:bg-sheet/70'}`}
            >
              <span className="truncate">{f.path}</span>
              <span className="text-soft">{f.kind}</span>
            </Link>
          )}
        </VirtualList>
        <p className="border-t border-line px-3.5 py-2">
          <Link className="text-plan underline underline-offset-2" to={address.place(slug, 'releases')}>
            All releases
          </Link>
        </p>
      </aside>
      <section aria-label="Changes" className="flex min-w-0 flex-1 flex-col bg-sheet">
        {shown ? <ReleasedFile key={shown.path} id={id} path={shown.path} /> : <Empty title="It changed no file" />}
      </section>
      <aside
        aria-label="What it did"
        className="flex w-75 shrink-0 flex-col gap-4 overflow-auto border-l border-line bg-paper p-4"
      >
        <Reviewed release={currentData} />
        <Did release={currentData} />
        <WayBack release={currentData} />
      </aside>
    </div>
  );
}

/** First letters of a name, as few as tell its people apart. */
const initials = (name: string): string =>
  name
    .split(', ')
    .map((one) =>
      one
        .split(/\s+/)
        .map((word) => word[0] ?? '')
        .join('')
        .slice(0, 2),
    )
    .join('+');

function ReleasedFile({ id, path }: { readonly id: number; readonly path: string }) {
  const { currentData, error, refetch } = useReleasedFileQuery({ id, path });
  const authors = currentData?.authors;
  const numbered = useCallback(
    (line: number) => `${authors?.[line - 1] ? `${initials(authors[line - 1]!)} ` : ''}${line}`,
    [authors],
  );
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!currentData) return <Loading what={`Reading ${path}`} />;
  const people = [...new Set(authors)];
  return (
    <>
      <header className="flex h-strip shrink-0 items-center gap-3 border-b border-line px-4">
        <h2 className="sheet-title min-w-0 flex-1 truncate">{path}</h2>
        <p className="text-small text-soft">{people.map((p) => `${initials(p)} ${p}`).join(', ')}</p>
      </header>
      <div className="min-h-0 flex-1">
        <Diff path={path} before={currentData.before ?? ''} after={currentData.after ?? ''} numbered={numbered} />
      </div>
    </>
  );
}

function Reviewed({ release: { review } }: { readonly release: ReleaseDetail }) {
  if (!review) return <p className="text-soft">It was released before there were reviews.</p>;
  const { authors, verdicts, consents, override } = review;
  return (
    <section aria-label="Review" className="flex flex-col gap-2">
      <SectionTitle>Review</SectionTitle>
      <p className="text-small text-soft">Written by {authors.join(', ')}.</p>
      <ul>
        {verdicts.map((v) => (
          <li key={v.person} className="flex gap-3 border-b border-line py-1.5">
            <span className="mt-1 shrink-0">
              <VerdictMark verdict={v.word === 'approved' ? 'holds' : 'broken'} />
            </span>
            <span className="min-w-0 break-words">
              <span className="font-medium">
                {v.person} {v.word === 'approved' ? 'approved' : 'declined'} it
              </span>{' '}
              <span className="text-small text-soft">{moment(v.at)}</span>
              <span className="block">{v.text}</span>
            </span>
          </li>
        ))}
      </ul>
      {verdicts.length === 0 && !override && <p className="text-soft">Nobody had to approve it.</p>}
      {override && (
        <p className="break-words">
          <span className="font-medium text-advisory-text">
            {override.person} released it without {override.missing.join(', and ')}:
          </span>{' '}
          {override.text}
        </p>
      )}
      {consents.length > 0 && <p>Dropped with consent: {consents.join(', ')}.</p>}
    </section>
  );
}

const SHOWN: readonly Verdict[] = ['broken', 'advisory', 'holds', 'not run'];
const VERDICT_WORDS: Readonly<Record<Verdict, string>> = {
  broken: 'broken',
  advisory: 'advisory',
  holds: 'held',
  'not run': 'not run',
};

function Did({ release: { loads, checks, runId, commit } }: { readonly release: ReleaseDetail }) {
  const { slug } = useProject();
  const ran = SHOWN.filter((v) => checks[v] > 0);
  return (
    <section aria-label="What it did to the data" className="flex flex-col gap-2">
      <SectionTitle aside={plural(loads.length, 'table')}>What it did</SectionTitle>
      <ul>
        {loads.map((l) => (
          <li key={l.table} className="border-b border-line py-1.5">
            <Link className="break-words text-plan underline underline-offset-2" to={address.table(slug, l.table)}>
              {l.table}
            </Link>
            <span className="block text-small text-soft">
              {[
                ...(l.rows === null ? [] : [rowsWords(l.rows)]),
                ...Object.entries(l.counts ?? {}).flatMap(([kind, n]) => (n > 0 ? [`${count(n)} ${kind}`] : [])),
              ].join(', ') || 'no rows counted'}
            </span>
          </li>
        ))}
      </ul>
      {ran.length > 0 && (
        <p>
          {plural(
            ran.reduce((n, v) => n + checks[v], 0),
            'check',
          )}
          : {ran.map((v) => `${checks[v]} ${VERDICT_WORDS[v]}`).join(', ')}
        </p>
      )}
      <p className="text-small text-soft">
        <Link className="text-plan underline underline-offset-2" to={address.run(slug, runId)}>
          run {runId}
        </Link>
        , commit <span className="font-mono">{shortCommit(commit)}</span>
      </p>
    </section>
  );
}
