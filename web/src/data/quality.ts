import type { CheckOutcome, LoadEntry, StateAnswer } from '@ouvrage/api/quality';
import { api, at } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    state: b.query<StateAnswer, string>({ query: (slug) => `${at(slug)}/state`, providesTags: ['State'] }),
    checkHistory: b.query<CheckOutcome[], { slug: string; id: string }>({
      query: ({ slug, id }) => `${at(slug)}/check-history?id=${encodeURIComponent(id)}`,
      providesTags: ['State'],
    }),
    loads: b.query<LoadEntry[], { slug: string; table: string }>({
      query: ({ slug, table }) => `${at(slug)}/loads?table=${encodeURIComponent(table)}`,
      providesTags: ['State'],
    }),
  }),
});

export const { useStateQuery, useCheckHistoryQuery, useLoadsQuery } = endpoints;
