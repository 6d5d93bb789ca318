import type { WatchFinding, WatchSeries } from '@ouvrage/api/watch';
import { api } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    watchFindings: b.query<WatchFinding[], void>({ query: () => 'watches', providesTags: ['State'] }),
    watchSeries: b.query<WatchSeries[], string>({
      query: (table) => `watches/series?table=${encodeURIComponent(table)}`,
      providesTags: ['State'],
    }),
    teachWatch: b.mutation<void, { table: string; measure: string; until?: string }>({
      query: (body) => ({ url: 'watches/lessons', method: 'POST', body }),
      invalidatesTags: ['State'],
    }),
  }),
});

export const { useWatchFindingsQuery, useWatchSeriesQuery, useTeachWatchMutation } = endpoints;
