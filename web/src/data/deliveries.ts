import type { DeliveryEntry, DeliverySearch } from '@ouvrage/api/delivery';
import { api } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    deliveries: b.query<{ folder: string; files: DeliveryEntry[]; more: boolean }, DeliverySearch>({
      query: (params) => ({ url: 'deliveries', params: { ...params } }),
      providesTags: ['Sources'],
    }),
    rejects: b.query<{ rows: (string | null)[][]; isFull: boolean }, number>({
      query: (id) => `deliveries/${id}/rejects`,
      providesTags: ['Sources'],
    }),
    retryDelivery: b.mutation<void, number>({
      query: (id) => ({ url: `deliveries/${id}/retry`, method: 'POST' }),
      invalidatesTags: ['Sources', 'State', 'Runs'],
    }),
    sendFile: b.mutation<void, File>({
      query: (file) => ({
        url: `deliveries/file?name=${encodeURIComponent(file.name)}`,
        method: 'POST',
        body: file,
        headers: { 'content-type': 'application/octet-stream' },
      }),
    }),
    lookIntoDrop: b.mutation<void, void>({
      query: () => ({ url: 'deliveries/look', method: 'POST' }),
      invalidatesTags: ['Sources', 'State', 'Runs'],
    }),
  }),
});

export const {
  useDeliveriesQuery,
  useRejectsQuery,
  useRetryDeliveryMutation,
  useSendFileMutation,
  useLookIntoDropMutation,
} = endpoints;
