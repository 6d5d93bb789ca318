import type { ComparedColumns, ComparedCounts, ComparedKind, ComparedRows, SameTable } from '@ouvrage/api/compared';
import { api, at } from './api';

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

export const { useComparedCountsQuery, useComparedColumnsQuery, useComparedRowsQuery } = endpoints;
