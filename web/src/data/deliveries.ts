import type { DeliveryList, DeliverySearch, Rejects } from '@ouvrage/api/delivery';
import { api } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    deliveries: b.infiniteQuery<DeliveryList, DeliverySearch, number | undefined>({
      query: ({ queryArg, pageParam }) => ({
        url: 'deliveries',
        params: { ...queryArg, ...(pageParam === undefined ? {} : { before: pageParam }) },
      }),
      // Each page begins behind the last file of the one before.
      infiniteQueryOptions: {
        initialPageParam: undefined,
        getNextPageParam: (page) => (page.more ? page.files.at(-1)?.id : undefined),
      },
      providesTags: ['Sources'],
    }),
    rejects: b.query<Rejects, number>({
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
  useDeliveriesInfiniteQuery,
  useRejectsQuery,
  useRetryDeliveryMutation,
  useSendFileMutation,
  useLookIntoDropMutation,
} = endpoints;
