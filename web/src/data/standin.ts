import { api } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    harbour: b.query<{ day: number | null; date: string | null }, void>({
      query: () => 'harbour',
      providesTags: ['Harbour'],
    }),
    advance: b.mutation<{ day: number; date: string }, number>({
      query: (days) => ({ url: 'harbour/advance', method: 'POST', body: { days } }),
      invalidatesTags: ['Harbour'],
    }),
  }),
});

export const { useHarbourQuery, useAdvanceMutation } = endpoints;
