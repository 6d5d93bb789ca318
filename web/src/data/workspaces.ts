import type { Commit, DraftEntry, FilesAnswer, WorkspaceEntry } from '@ouvrage/api/project';
import { api, at } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    workspaces: b.query<WorkspaceEntry[], void>({ query: () => 'workspaces', providesTags: ['Workspaces'] }),
    openWorkspace: b.mutation<WorkspaceEntry, string>({
      query: (name) => ({ url: 'workspaces', method: 'POST', body: { name } }),
      invalidatesTags: ['Workspaces'],
    }),
    files: b.query<FilesAnswer, string>({ query: (slug) => `${at(slug)}/files`, providesTags: ['Files'] }),
    keepDraft: b.mutation<DraftEntry, { slug: string; path: string; text: string | null; version: number }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/drafts`, method: 'PUT', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Files', 'State', 'Workspaces', 'Releases']),
    }),
    dropDraft: b.mutation<void, { slug: string; path: string }>({
      query: ({ slug, path }) => ({ url: `${at(slug)}/drafts?path=${encodeURIComponent(path)}`, method: 'DELETE' }),
      invalidatesTags: ['Files', 'State', 'Workspaces', 'Releases'],
    }),
    rebaseDraft: b.mutation<void, { slug: string; path: string }>({
      query: ({ slug, path }) => ({ url: `${at(slug)}/drafts/rebase`, method: 'POST', body: { path } }),
      invalidatesTags: ['Files'],
    }),
    commit: b.mutation<Commit, { slug: string; message: string }>({
      query: ({ slug, message }) => ({ url: `${at(slug)}/commits`, method: 'POST', body: { message } }),
      invalidatesTags: (_, error) => (error ? [] : ['Files', 'State', 'Workspaces', 'Releases']),
    }),
    history: b.query<Commit[], { slug: string; path: string }>({
      query: ({ slug, path }) => `${at(slug)}/history?path=${encodeURIComponent(path)}`,
      providesTags: ['Files'],
    }),
    fileAt: b.query<{ text: string | null; before: string | null }, { slug: string; path: string; commit: string }>({
      query: ({ slug, path, commit }) => `${at(slug)}/file?path=${encodeURIComponent(path)}&commit=${commit}`,
    }),
    takeProduction: b.mutation<Commit, { slug: string; files: Record<string, string | null> }>({
      query: ({ slug, files }) => ({ url: `${at(slug)}/take-production`, method: 'POST', body: { files } }),
      invalidatesTags: ['Files', 'State', 'Releases'],
    }),
  }),
});

export const {
  useWorkspacesQuery,
  useOpenWorkspaceMutation,
  useFilesQuery,
  useKeepDraftMutation,
  useDropDraftMutation,
  useRebaseDraftMutation,
  useCommitMutation,
  useHistoryQuery,
  useFileAtQuery,
  useTakeProductionMutation,
} = endpoints;
