import type { HarbourDay } from '@ouvrage/api/standin';
import { api } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    harbour: b.query<HarbourDay, void>({
      query: () => 'harbour',
      providesTags: ['Harbour'],
    }),
    advance: b.mutation<HarbourDay, number>({
      query: (days) => ({ url: 'harbour/advance', method: 'POST', body: { days } }),
      invalidatesTags: ['Harbour'],
    }),
  }),
});

export const { useHarbourQuery, useAdvanceMutation } = endpoints;
