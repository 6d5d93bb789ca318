import type { Cast } from '@ouvrage/core/assist';
import type {
  CastsAnswer,
  ExportTicket,
  Look,
  PageAnswer,
  PreviewSample,
  ProfileAnswer,
  Rows,
} from '@ouvrage/api/rows';
import type { StepError } from '@ouvrage/api/run';
import { api, at } from './api';

/** Rows that are read at a time. */
const PAGE_ROWS = 200;

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    pages: b.infiniteQuery<PageAnswer, { slug: string; table: string; look: Look }, PageAnswer['next']>({
      query: ({ queryArg: { slug, table, look }, pageParam }) => ({
        url: `${at(slug)}/page`,
        method: 'POST',
        body: { table, ...look, limit: PAGE_ROWS, ...(pageParam ? { after: pageParam } : {}) },
      }),
      infiniteQueryOptions: { initialPageParam: null, getNextPageParam: (page) => page.next ?? undefined },
      providesTags: ['State'],
      keepUnusedDataFor: 5,
    }),
    profile: b.query<ProfileAnswer, { slug: string; table: string; production: boolean }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/profile`, method: 'POST', body }),
      providesTags: ['State'],
    }),
    preview: b.mutation<Rows, { slug: string; path: string; text: string; limit: number; sample?: PreviewSample }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/preview`, method: 'POST', body }),
    }),
    casts: b.mutation<CastsAnswer, { slug: string; path: string; text: string; casts: readonly Cast[] }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/casts`, method: 'POST', body }),
    }),
    askExport: b.mutation<
      ExportTicket,
      { slug: string; path: string; text: string; format: string; sample?: PreviewSample }
    >({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/preview/exports`, method: 'POST', body }),
    }),
    validate: b.query<StepError[], { slug: string; path: string; text: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/validate`, method: 'POST', body }),
      providesTags: ['State', 'Files', 'Drafts'],
      keepUnusedDataFor: 30,
    }),
    describe: b.query<{ name: string; type: string }[], { slug: string; path: string; text: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/describe`, method: 'POST', body }),
      providesTags: ['State', 'Files', 'Drafts'],
      keepUnusedDataFor: 5,
    }),
  }),
});

export const {
  usePagesInfiniteQuery,
  useProfileQuery,
  usePreviewMutation,
  useAskExportMutation,
  useCastsMutation,
  useValidateQuery,
  useDescribeQuery,
} = endpoints;

/** The address of a look's rows as a file. */
export function exportAddress(slug: string, table: string, look: Look, format: string): string {
  return `/api/${at(slug)}/export?format=${format}&look=${encodeURIComponent(JSON.stringify({ table, ...look }))}`;
}

/** The address of a query's rows as a file, once it was asked for. */
export const queryExportAddress = (slug: string, { id }: ExportTicket): string =>
  `/api/${at(slug)}/preview/exports/${id}`;

/** The formats that rows are saved as, with their names. */
export const EXPORT_FORMATS = [
  ['csv', 'CSV'],
  ['jsonl', 'JSON lines'],
  ['parquet', 'Parquet'],
] as const;
