import type { ComparedColumns, ComparedCounts, ComparedKind, ComparedRows, SameTable } from '@ouvrage/api/compared';
import { useCallback, useEffect } from 'react';
import { api, at } from './api';
import { useAppDispatch } from './store';

interface Asked {
  readonly slug: string;
  readonly table: string;
}

const path = ({ slug, table }: Asked, part: string) =>
  `${at(slug)}/compared/${part}?table=${encodeURIComponent(table)}`;

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    comparedCounts: b.query<ComparedCounts | SameTable, Asked>({
      query: (asked) => path(asked, 'counts'),
      providesTags: ['State', 'Releases'],
    }),
    comparedColumns: b.query<ComparedColumns, Asked>({
      query: (asked) => path(asked, 'columns'),
      providesTags: ['State', 'Releases'],
    }),
    comparedRows: b.query<ComparedRows, Asked & { readonly kind: ComparedKind }>({
      query: ({ kind, ...asked }) => `${path(asked, 'rows')}&kind=${encodeURIComponent(kind)}`,
      providesTags: ['State', 'Releases'],
    }),
  }),
});

/** The address of all rows of a kind as a file. */
export const comparedFile = (asked: Asked, kind: ComparedKind): string =>
  `/api/${path(asked, 'export')}&kind=${encodeURIComponent(kind)}`;

/** Ends the counting of a table's rows, also when nobody looks any more. @returns what ends it */
export function useStopCounting({ slug, table }: Asked): () => void {
  const dispatch = useAppDispatch();
  const stop = useCallback(() => {
    for (const name of ['comparedCounts', 'comparedColumns'] as const)
      dispatch(endpoints.util.getRunningQueryThunk(name, { slug, table }))?.abort();
  }, [dispatch, slug, table]);
  useEffect(() => stop, [stop]);
  return stop;
}

export const { useComparedCountsQuery, useComparedColumnsQuery, useComparedRowsQuery } = endpoints;

/** The columns of a table that were compared already; nothing is asked for them. */
export function useComparedNames(of: { readonly slug: string; readonly table: string }): readonly string[] {
  const { currentData } = endpoints.endpoints.comparedColumns.useQueryState(of);
  return (currentData?.columns ?? []).map((c) => c.column);
}
