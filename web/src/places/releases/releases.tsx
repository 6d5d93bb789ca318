import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { useMemo, useState, type ReactNode } from 'react';
import { Link, useSearchParams } from 'react-router';
import { address } from '../../data/addresses';
import { useComparedFileQuery, useComparisonQuery, useReleasesQuery } from '../../data/releases';
import { useProject } from '../../data/project';
import { useReviewQuery } from '../../data/reviews';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Comparison, TableChange, ReleaseEntry } from '@ouvrage/api/release';
import type { Remark } from '@ouvrage/api/review';
import { Diff } from '../../shared/diff';
import { ago, moment, plural, shortCommit } from '../../shared/format';
import { Hatch } from '../../shared/marks';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Tag } from '../../shared/ui/tag';
import { VirtualList } from '../../shared/ui/virtual-list';
import { ComparedAll } from './compared-all';
import { ComparedTable } from './compared-table';
import { MergeConflict } from './merge-conflict';
import { ReleasePanel } from './release-panel';
import { ReleaseSheet } from './release-sheet';
import { FileRemarks, RowRemarks } from './remarks';
import { withdrawnBy } from './way-back';

const NO_REMARKS: readonly Remark[] = [];

/** A workspace against production, and what was released. */
export default function Releases() {
  const { isProduction } = useProject();
  const [search] = useSearchParams();
  const release = Number(search.get('release') ?? NaN);
  if (Number.isInteger(release)) return <ReleaseSheet key={release} id={release} file={search.get('file')} />;
  return isProduction ? <ReleaseList /> : <Review />;
}

function Review() {
  const { slug, tables } = useProject();
  const [search] = useSearchParams();
  const { data, error, isLoading, refetch } = useComparisonQuery(slug, { refetchOnMountOrArgChange: true });
  const { currentData: review } = useReviewQuery(slug, { refetchOnMountOrArgChange: true });
  const remarks = review?.remarks ?? NO_REMARKS;
  if (isLoading) return <Loading what="Comparing with production" />;
  if (error || !data)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  const changed = new Set(data.files.map((f) => f.path));
  const pathOf = (table: string) => {
    const path = tables.get(table)?.path;
    return path !== undefined && changed.has(path) ? path : undefined;
  };
  const compared = data.tables.find((t) => t.kind !== 'deleted' && t.table === search.get('rows'))?.table;
  const isAll = search.get('rows') === 'all';
  const withRows = data.tables.flatMap((t) => (t.kind === 'deleted' ? [] : [t.table]));
  const file = compared || isAll ? undefined : (data.files.find((f) => f.path === search.get('file')) ?? data.files[0]);
  return (
    <div className="flex h-full min-h-0">
      <ReviewIndex data={data} file={file?.path} compared={isAll ? 'all' : compared} />
      <section aria-label="Changes" className="flex min-w-0 flex-1 flex-col bg-sheet">
        {data.conflicts.length > 0 ? (
          <MergeConflict conflicts={data.conflicts} />
        ) : compared ? (
          <>
            <Head table={compared} path={pathOf(compared)} view="rows">
              {compared}
            </Head>
            <div className="min-h-0 flex-1">
              <ComparedTable key={compared} table={compared} />
            </div>
            <RowRemarks key={compared} table={compared} remarks={remarks} />
          </>
        ) : isAll ? (
          <>
            <Head table={undefined} path={undefined} view="rows">
              All tables
            </Head>
            <div className="min-h-0 flex-1">
              <ComparedAll tables={withRows} />
            </div>
          </>
        ) : file ? (
          <>
            <Head table={data.tables.find((t) => pathOf(t.table) === file.path)?.table} path={file.path} view="sql">
              {file.path}
              <Tag tone="plan">{file.kind}</Tag>
              {file.draft && <Tag tone="advisory">draft, not committed</Tag>}
            </Head>
            <FileDiff key={file.path} path={file.path} remarks={remarks} />
          </>
        ) : (
          <ReleaseList />
        )}
      </section>
      <ReleasePanel data={data} review={review} />
    </div>
  );
}

interface HeadProps {
  /** A table with rows of its own here and in production. */
  readonly table: string | undefined;
  /** Its file, where that changes. */
  readonly path: string | undefined;
  readonly view: 'sql' | 'rows';
  readonly children: ReactNode;
}

/** What is looked at, and the other way of looking at it. */
function Head({ table, path, view, children }: HeadProps) {
  const { slug } = useProject();
  const ways = [
    ...(path === undefined ? [] : [['sql', 'SQL', address.review(slug, path)] as const]),
    ...(table === undefined ? [] : [['rows', 'Rows', address.comparedRows(slug, table)] as const]),
  ];
  return (
    <header className="flex h-strip shrink-0 items-center gap-3 border-b border-line px-4">
      <h1 className="sheet-title flex min-w-0 flex-1 items-center gap-3">{children}</h1>
      {table !== undefined && (
        <nav aria-label="Ways of looking" className="flex gap-2">
          {ways.map(([name, title, to]) => (
            <Link
              key={name}
              to={to}
              aria-current={name === view ? 'page' : undefined}
              className={`border px-3 py-0.5 font-medium ${name === view ? 'border-plan bg-paper text-plan' : 'border-line hover:border-ink'}`}
            >
              {title}
            </Link>
          ))}
        </nav>
      )}
    </header>
  );
}

const WORDS: Readonly<Record<TableChange['kind'], string>> = {
  new: 'new',
  renamed: 'renamed',
  changed: 'query',
  downstream: 'reloaded',
  deleted: 'dropped',
};

/** One file, as production has it and as the workspace has it. */
function FileDiff({ path, remarks }: { path: string; remarks: readonly Remark[] }) {
  const { slug } = useProject();
  const [line, setLine] = useState<number>();
  const { currentData, error, refetch } = useComparedFileQuery({ slug, path });
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!currentData) return <Loading what={`Reading ${path}`} />;
  const marked = remarks.flatMap((r) => (r.place.kind === 'line' && r.place.path === path ? (r.line ?? []) : []));
  return (
    <>
      <div className="min-h-0 flex-1">
        <Diff
          path={path}
          before={currentData.before ?? ''}
          after={currentData.after ?? ''}
          marked={marked}
          onLine={setLine}
        />
      </div>
      <FileRemarks path={path} remarks={remarks} line={line} onLine={setLine} />
    </>
  );
}

type ReviewLine =
  | { readonly change: TableChange; readonly path: string | undefined; readonly to: string | undefined }
  | { readonly file: Comparison['files'][number] }
  | { readonly heading: string };

/** Tables that change, other files that do, and what is loaded again because of them. */
function ReviewIndex({
  data,
  file,
  compared,
}: {
  data: Comparison;
  file: string | undefined;
  /** The table whose rows are compared; `all` for all of them. */
  compared: string | undefined;
}) {
  const { slug, tables } = useProject();
  const lines = useMemo((): ReviewLine[] => {
    const paths = new Map(data.files.map((f) => [f.path.replace(/^.*\//, ''), f.path]));
    const own = data.tables
      .filter((t) => t.kind !== 'downstream')
      .map((change) => ({
        change,
        path: tables.get(change.table)?.path ?? paths.get(`${change.table.split('.')[1]}.sql`),
      }));
    const shown = new Set(own.map((t) => t.path));
    const below = data.tables.filter((t) => t.kind === 'downstream');
    return [
      ...own.map(({ change, path }) => ({
        change,
        path,
        to: path
          ? address.review(slug, path)
          : change.kind === 'deleted'
            ? undefined
            : address.comparedRows(slug, change.table),
      })),
      ...data.files.filter((f) => !shown.has(f.path)).map((f) => ({ file: f })),
      ...(below.length > 0 ? [{ heading: 'Downstream of them' }] : []),
      ...below.map((change) => ({ change, path: undefined, to: address.comparedRows(slug, change.table) })),
    ];
  }, [data, slug, tables]);
  return (
    <aside aria-label="Review" className="flex w-65.5 shrink-0 flex-col border-r border-line bg-paper">
      <header className="px-3.5 py-3">
        <p className="caps">Review</p>
        <h2 className="font-cond text-title leading-tight font-semibold">{data.workspace.slug} → production</h2>
        <p className="text-small text-soft">
          {plural(data.commits.length, 'commit')}, {plural(data.drafts.length, 'draft')}, opened by{' '}
          {data.workspace.owner}
        </p>
        {data.tables.length > 0 && (
          <Link
            to={address.comparedAll(slug)}
            aria-current={compared === 'all' ? 'page' : undefined}
            className="text-plan underline underline-offset-2"
          >
            Compare the rows of all tables
          </Link>
        )}
      </header>
      <VirtualList
        label="What changes"
        items={lines}
        keyOf={(line) => ('change' in line ? line.change.table : 'file' in line ? line.file.path : line.heading)}
        height={52}
        className="flex-1"
      >
        {(line) =>
          'change' in line ? (
            <TableLine
              change={line.change}
              to={line.to}
              current={
                line.change.table === compared ||
                (compared === undefined && line.path !== undefined && line.path === file)
              }
            />
          ) : 'file' in line ? (
            <Link
              to={address.review(slug, line.file.path)}
              aria-current={line.file.path === file ? 'true' : undefined}
              className={`flex justify-between border-b border-l-3 border-b-line px-3 py-2 ${line.file.path === file ? 'border-l-plan bg-sheet' : 'border-l-transparent hover:bg-sheet/70'}`}
            >
              <span className="truncate">{line.file.path}</span>
              <span className="text-soft">{line.file.kind}</span>
            </Link>
          ) : (
            <h3 className="caps px-3.5 pt-4 pb-1">{line.heading}</h3>
          )
        }
      </VirtualList>
      <footer className="border-t border-line">
        <h3 className="caps px-3.5 pt-2 pb-1">Unchanged</h3>
        <p className="px-3.5 pb-3 text-soft">
          {plural(data.untouched, 'table')} {data.untouched === 1 ? 'reads' : 'read'} nothing that changed
        </p>
      </footer>
    </aside>
  );
}

function TableLine({ change, to, current }: { change: TableChange; to: string | undefined; current: boolean }) {
  const { layerPosition, tables } = useProject();
  const name = tables.get(change.table)?.name ?? change.table;
  const columns = [
    change.columnsAdded.length ? `new: ${change.columnsAdded.join(', ')}` : '',
    change.columnsRenamed.length
      ? `renamed: ${change.columnsRenamed.map((c) => `${c.was} to ${c.now}`).join(', ')}`
      : '',
    change.columnsDropped.length ? `dropped: ${change.columnsDropped.join(', ')}` : '',
    change.columnsRetyped.length ? `new type: ${change.columnsRetyped.join(', ')}` : '',
  ]
    .filter(Boolean)
    .join('; ');
  const body = (
    <>
      <span className="flex items-center gap-2.5">
        <Hatch position={layerPosition(change.table)} />
        <span className="min-w-0 flex-1 truncate font-medium">{name}</span>
        <span className={change.kind === 'deleted' ? 'text-broken' : ''}>{WORDS[change.kind]}</span>
      </span>
      {change.kind !== 'downstream' && (
        <span className="block truncate pl-6 text-small text-soft">
          {[change.was ? `was ${change.was}` : '', columns].filter(Boolean).join('; ') ||
            (change.kind === 'new' ? 'production does not have it' : 'the columns are the same')}
        </span>
      )}
    </>
  );
  const look = `block border-b border-l-3 border-b-line px-3 py-2 ${current ? 'border-l-plan bg-sheet' : 'border-l-transparent hover:bg-sheet/70'}`;
  return to ? (
    <Link to={to} aria-current={current ? 'true' : undefined} className={look}>
      {body}
    </Link>
  ) : (
    <div className={look}>{body}</div>
  );
}

/** What was put into production, newest first. */
function ReleaseList() {
  const { slug, isProduction } = useProject();
  const { data = [], isLoading } = useReleasesQuery();
  if (isLoading) return <Loading what="Reading releases" />;
  return (
    <div className="h-full overflow-auto bg-sheet p-5">
      {!isProduction && <p className="sheet-title mb-4">Production already has everything in this workspace</p>}
      <SectionTitle aside={plural(data.length, 'release')}>Releases</SectionTitle>
      {data.length === 0 ? (
        <Empty title="No releases yet">
          <p>Edit a definition in a workspace, commit it, and release it from here.</p>
        </Empty>
      ) : (
        <DataTable className="mt-2" columns={releaseColumns(slug, withdrawnBy(data))} rows={data} keyOf={(r) => r.id} />
      )}
    </div>
  );
}

const releaseColumns = (slug: string, withdrawn: ReadonlyMap<number, number>): DataColumn<ReleaseEntry>[] => [
  { id: 'number', isSilent: true, look: 'font-mono text-small', cell: (r) => r.id },
  {
    id: 'message',
    look: 'max-w-72 font-medium',
    sortBy: (r) => r.message,
    cell: (r) => (
      <span className="flex items-baseline gap-2">
        <Link
          className="truncate text-plan underline underline-offset-2"
          title={r.message}
          to={address.release(slug, r.id)}
        >
          {r.message}
        </Link>
        {withdrawn.has(r.id) && (
          <span className="shrink-0 text-small text-advisory-text"> withdrawn by {withdrawn.get(r.id)}</span>
        )}
      </span>
    ),
  },
  { id: 'from', cell: (r) => r.workspace },
  { id: 'by', sortBy: (r) => r.person, cell: (r) => r.person },
  { id: 'approved by', sortBy: approvedBy, cell: (r) => <span title={approvalTitle(r)}>{approvedBy(r)}</span> },
  {
    id: 'tables',
    sortBy: (r) => r.tables.length,
    cell: (r) => <span title={r.tables.join(', ')}>{plural(r.tables.length, 'table')}</span>,
  },
  { id: 'when', cell: (r) => <span title={moment(r.at)}>{ago(r.at)}</span> },
  { id: 'commit', look: 'font-mono text-small', cell: (r) => shortCommit(r.commit) },
  {
    id: 'run',
    cell: (r) => (
      <Link className="text-plan underline underline-offset-2" to={address.run(slug, r.runId)}>
        {r.runId}
      </Link>
    ),
  },
];

/** Who approved a release; an administrator’s word where it went without. */
const approvedBy = ({ review }: ReleaseEntry): string =>
  review?.override ? `without, ${review.override.person}` : (review?.verdicts ?? []).map((v) => v.person).join(', ');

const approvalTitle = ({ review }: ReleaseEntry): string =>
  review
    ? [
        `Written by ${review.authors.join(', ')}`,
        ...review.verdicts.map((v) => `${v.person}: ${v.text}`),
        ...(review.consents.length ? [`Dropped with consent: ${review.consents.join(', ')}`] : []),
        ...(review.override ? [`Without ${review.override.missing.join(', and ')}: ${review.override.text}`] : []),
      ].join('\n')
    : '';
