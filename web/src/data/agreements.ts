import type { Agreed, Agreement } from '@ouvrage/api/agreement';
import { api, at } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    agreements: b.query<Agreement[], string>({
      query: (slug) => `${at(slug)}/agreements`,
      providesTags: ['Agreements'],
    }),
    agree: b.mutation<void, Agreed & { slug: string; desk: string | null }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/agreements`, method: 'POST', body }),
      invalidatesTags: ['Agreements'],
    }),
    withdraw: b.mutation<void, Agreed & { slug: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/agreements/withdraw`, method: 'POST', body }),
      invalidatesTags: ['Agreements'],
    }),
  }),
});

export const { useAgreementsQuery, useAgreeMutation, useWithdrawMutation } = endpoints;
