import type { BoundEnvironment, ConnectionEntry, ConnectionInput, ConnectionTest } from '@ouvrage/api/connection';
import { api } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    connections: b.query<ConnectionEntry[], void>({ query: () => 'connections', providesTags: ['Connections'] }),
    keepConnection: b.mutation<void, { id: string | undefined; input: ConnectionInput }>({
      query: ({ id, input }) => ({
        url: id === undefined ? 'connections' : `connections/${id}`,
        method: id === undefined ? 'POST' : 'PUT',
        body: input,
      }),
      invalidatesTags: (_, error) => (error ? [] : ['Connections', 'Sources']),
    }),
    testConnection: b.mutation<ConnectionTest, { id: string | undefined; input: ConnectionInput }>({
      query: ({ id, input }) => ({ url: 'connections/test', method: 'POST', body: { ...input, id } }),
    }),
    deleteConnection: b.mutation<void, string>({
      query: (id) => ({ url: `connections/${id}`, method: 'DELETE' }),
      invalidatesTags: ['Connections', 'Sources'],
    }),
    bindServer: b.mutation<void, { server: string; environment: BoundEnvironment; connection: string | null }>({
      query: (body) => ({ url: 'connections/binding', method: 'PUT', body }),
      invalidatesTags: ['Connections', 'Sources'],
    }),
  }),
});

export const {
  useConnectionsQuery,
  useKeepConnectionMutation,
  useTestConnectionMutation,
  useDeleteConnectionMutation,
  useBindServerMutation,
} = endpoints;
