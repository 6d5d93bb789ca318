import type { ProposedFile } from '@ouvrage/api/project';
import type { RunEntry } from '@ouvrage/api/run';
import type { CatalogEntry, SourceSystem } from '@ouvrage/api/source';
import type { Drift } from '@ouvrage/core/intake';
import { api, at } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    sources: b.query<SourceSystem[], string>({
      query: (slug) => `${at(slug)}/sources`,
      providesTags: ['Sources', 'State'],
    }),
    catalog: b.query<
      { server: string; isBound: boolean; administrators: string[]; tables: CatalogEntry[] },
      { slug: string; connection: string }
    >({
      query: ({ slug, connection }) => `${at(slug)}/catalog/${connection}`,
      providesTags: ['Files', 'Drafts'],
      keepUnusedDataFor: 0,
    }),
    proposeImport: b.mutation<
      ProposedFile[],
      { slug: string; connection: string; tables: readonly { schema: string; name: string }[] }
    >({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/import`, method: 'POST', body }),
    }),
    bindNew: b.mutation<void, { slug: string; connection: string; server: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/import/bind`, method: 'POST', body }),
      invalidatesTags: ['Connections', 'Sources'],
    }),
    compareSources: b.mutation<Record<string, Drift | null>, { slug: string; server: string }>({
      query: ({ slug, server }) => ({
        url: `${at(slug)}/sources/${encodeURIComponent(server)}/compare`,
        method: 'POST',
        body: { tables: [] },
      }),
      invalidatesTags: ['Sources', 'State'],
    }),
    proposeTakeOver: b.mutation<ProposedFile[], { slug: string; server: string; tables: readonly string[] }>({
      query: ({ slug, server, tables }) => ({
        url: `${at(slug)}/sources/${encodeURIComponent(server)}/take-over`,
        method: 'POST',
        body: { tables },
      }),
    }),
    bringIn: b.mutation<RunEntry, { slug: string; tables: readonly string[] }>({
      query: ({ slug, tables }) => ({ url: `${at(slug)}/intake`, method: 'POST', body: { tables } }),
      invalidatesTags: ['Runs'],
    }),
  }),
});

export const {
  useSourcesQuery,
  useCatalogQuery,
  useProposeImportMutation,
  useBindNewMutation,
  useCompareSourcesMutation,
  useProposeTakeOverMutation,
  useBringInMutation,
} = endpoints;
