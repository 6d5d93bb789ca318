import { LeftOut } from './left-out';
import { VIEWS, useLook } from './use-look';
import { lazy, Suspense, useMemo } from 'react';
import { usePagesInfiniteQuery } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Look } from '@ouvrage/api/rows';
import { count, duration, rows as rowsWords } from '../../shared/format';
import { Grid } from '../../shared/grid';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import type { TableSummary } from '../../worker/protocol';
import { LookBar } from './look-bar';
import { Versions } from './versions';

const ProfileView = lazy(() => import('./profile-view'));
const WHERE = {
  here: 'as built in this workspace',
  production: 'from production',
  nowhere: 'from the query: it is not built here yet',
};

/** Rows of the table as it is, page by page, and what its columns hold. */
export function RowsFacet({ table }: { table: TableSummary }) {
  const { look, view, set } = useLook();
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div
        role="group"
        aria-label="Shown as"
        className="flex h-bar shrink-0 items-center gap-1 border-b border-line px-3.5"
      >
        {VIEWS.filter((v) => v !== 'versions' || table.history).map((v) => (
          <button
            key={v}
            type="button"
            aria-pressed={view === v}
            onClick={() => set({ view: v })}
            className={`h-6 rounded-edge border px-2 ${view === v ? 'border-plan bg-wash text-plan' : 'border-line hover:bg-raised'}`}
          >
            {{ data: 'Data', profile: 'Profile', versions: 'Versions' }[v]}
          </button>
        ))}
      </div>
      {view === 'data' ? (
        <Data table={table} look={look} onLook={(next) => set({ look: next })} />
      ) : view === 'versions' && table.history ? (
        <Versions table={table} />
      ) : (
        <Suspense fallback={<Loading what="Opening the profile" />}>
          <ProfileView table={table} onFilter={(filters) => set({ look: { ...look, filters }, view: 'data' })} />
        </Suspense>
      )}
    </div>
  );
}

function Data({ table, look, onLook }: { table: TableSummary; look: Look; onLook: (look: Look) => void }) {
  const { slug } = useProject();
  const { data, error, isFetching, isFetchingNextPage, hasNextPage, fetchNextPage, refetch } = usePagesInfiniteQuery(
    { slug, table: table.fullName, look },
    { refetchOnMountOrArgChange: true },
  );
  const rows = useMemo(() => data?.pages.flatMap((p) => p.rows) ?? [], [data]);
  const first = data?.pages[0];
  const sortBy = (column: string) => {
    const own = look.sort.find((s) => s.column === column);
    // Ascending, descending, not at all.
    const rest = look.sort.filter((s) => s.column !== column);
    onLook({
      ...look,
      sort: !own ? [{ column, descending: false }] : own.descending ? rest : [{ column, descending: true }, ...rest],
    });
  };
  return (
    <>
      <LookBar
        table={table.fullName}
        columns={table.columns ?? first?.columns ?? []}
        look={look}
        onLook={onLook}
        rows={rows}
        shown={first?.columns ?? []}
      />
      <p className="flex h-6.5 shrink-0 items-center justify-between border-b border-line px-3.5 text-small text-soft">
        <span>{first ? WHERE[first.where] : ''}</span>
        {first?.leftOut && <LeftOut columns={first.leftOut} />}
        <span className="font-mono" aria-live="polite">
          {isFetchingNextPage && 'loading more · '}
          {first?.total &&
            `${count(rows.length)} of ${first.total.exact ? '' : 'about '}${rowsWords(first.total.rows)} · ${duration(first.milliseconds)}`}
        </span>
      </p>
      <div className="min-h-0 flex-1">
        {error ? (
          <div className="p-3">
            <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
          </div>
        ) : !first || (isFetching && !isFetchingNextPage && rows.length === 0) ? (
          <Loading what="Reading rows" />
        ) : rows.length === 0 ? (
          <Empty title={look.filters.length ? 'No rows match these filters' : 'The table has no rows'} />
        ) : (
          <Grid
            label={`Rows of ${table.fullName}`}
            columns={first.columns}
            rows={rows}
            sort={look.sort}
            onSort={sortBy}
            onEnd={hasNextPage && !isFetchingNextPage ? () => void fetchNextPage() : undefined}
          />
        )}
      </div>
    </>
  );
}
