import type { ComparedColumns, ComparedCounts, ComparedKind, ComparedRows, SameTable } from '@ouvrage/api/compared';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useCallback, useEffect, useRef, useState } from 'react';
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

/** What was found of a table: counts, or why there are none. */
export type ComparedOutcome = ComparedCounts | SameTable | { readonly problem: ProblemBody };

/** The rows of several tables counted one after another, so that others have their turn; it stops when nobody looks any more. */
export function useComparedAll({ slug, tables }: { readonly slug: string; readonly tables: readonly string[] }): {
  readonly found: ReadonlyMap<string, ComparedOutcome>;
  readonly isGoing: boolean;
  readonly stop: () => void;
  readonly goOn: () => void;
} {
  const dispatch = useAppDispatch();
  const [found, setFound] = useState<ReadonlyMap<string, ComparedOutcome>>(new Map());
  const [isGoing, setGoing] = useState(true);
  const known = useRef(new Set<string>());
  const names = tables.join();
  useEffect(() => {
    if (!isGoing) return undefined;
    let isWanted = true;
    let asked: { abort: () => void } | undefined;
    const ask = async (table: string) => {
      const question = dispatch(endpoints.endpoints.comparedCounts.initiate({ slug, table }, { subscribe: false }));
      asked = question;
      const { data, error } = await question;
      if (!isWanted) return;
      known.current.add(table);
      const outcome = data ?? { problem: error as ProblemBody };
      setFound((before) => new Map([...before, [table, outcome]]));
    };
    void (async () => {
      for (const table of names.split(',')) if (isWanted && table !== '' && !known.current.has(table)) await ask(table);
      if (isWanted) setGoing(false);
    })();
    return () => {
      isWanted = false;
      asked?.abort();
    };
  }, [dispatch, slug, names, isGoing]);
  return { found, isGoing, stop: () => setGoing(false), goOn: () => setGoing(true) };
}
