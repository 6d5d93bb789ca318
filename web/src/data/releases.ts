import type {
  ComparedTexts,
  Comparison,
  KeptCopies,
  ReleaseDetail,
  ReleasedTexts,
  ReleaseEntry,
  RestorePlan,
  TodayAnswer,
  WayBack,
} from '@ouvrage/api/release';
import type { RunEntry } from '@ouvrage/api/run';
import type { Treatment } from '@ouvrage/core/review';
import { api, at } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    comparison: b.query<Comparison, string>({
      query: (slug) => `${at(slug)}/comparison`,
      providesTags: ['Releases', 'State'],
    }),
    comparedFile: b.query<ComparedTexts, { slug: string; path: string }>({
      query: ({ slug, path }) => `${at(slug)}/comparison/file?path=${encodeURIComponent(path)}`,
      providesTags: ['Releases'],
    }),
    release: b.mutation<
      RunEntry,
      {
        slug: string;
        message: string;
        consents: readonly string[];
        treatments: Readonly<Record<string, Treatment>>;
        override?: string;
      }
    >({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/release`, method: 'POST', body }),
      invalidatesTags: ['Runs'],
    }),
    releases: b.query<ReleaseEntry[], void>({ query: () => 'releases', providesTags: ['Releases'] }),
    released: b.query<ReleaseDetail, number>({ query: (id) => `releases/${id}` }),
    releasedFile: b.query<ReleasedTexts, { id: number; path: string }>({
      query: ({ id, path }) => `releases/${id}/file?path=${encodeURIComponent(path)}`,
    }),
    wayBack: b.mutation<WayBack, { id: number; restores: boolean }>({
      query: ({ id, restores }) => ({ url: `releases/${id}/way-back`, method: 'POST', body: { restores } }),
      invalidatesTags: (_, error) => (error ? [] : ['Workspaces']),
    }),
    restorePlan: b.query<RestorePlan, number>({
      query: (id) => `releases/${id}/restore`,
      providesTags: ['Releases', 'State'],
    }),
    keptCopies: b.query<KeptCopies, void>({ query: () => 'kept-copies', providesTags: ['Releases'] }),
    keepFor: b.mutation<void, number>({
      query: (days) => ({ url: 'kept-copies', method: 'PUT', body: { days } }),
      invalidatesTags: (_, error) => (error ? [] : ['Releases']),
    }),
    today: b.query<TodayAnswer, string>({
      query: (slug) => `${at(slug)}/today`,
      providesTags: ['State', 'Runs', 'Files', 'Drafts', 'Incidents', 'Reviews'],
    }),
  }),
});

export const {
  useComparisonQuery,
  useComparedFileQuery,
  useReleaseMutation,
  useReleasesQuery,
  useReleasedQuery,
  useReleasedFileQuery,
  useWayBackMutation,
  useRestorePlanQuery,
  useKeptCopiesQuery,
  useKeepForMutation,
  useTodayQuery,
} = endpoints;
