import type { Commit, DraftEntry, FilesAnswer, Sharing, WorkspaceEntry } from '@ouvrage/api/project';
import { api, at } from './api';

/** The files of a workspace as they are kept here: those that were known, with what has changed since. */
export type ProjectFiles = Omit<FilesAnswer, 'files' | 'since'> & { readonly files: Readonly<Record<string, string>> };

function merged(known: ProjectFiles | undefined, { files, since, ...answer }: FilesAnswer): ProjectFiles {
  const base = since !== null && known?.commit === since ? known.files : {};
  const all = Object.entries({ ...base, ...files }).filter((entry): entry is [string, string] => entry[1] !== null);
  return {
    ...answer,
    files: Object.keys(files).length === 0 && known?.commit === since ? known!.files : Object.fromEntries(all),
  };
}

/** The drafts of a workspace with one more, or another in its place. */
const withDraft = (drafts: readonly DraftEntry[], draft: DraftEntry): DraftEntry[] =>
  [...drafts.filter((d) => d.path !== draft.path), draft].sort((a, b) => (a.path < b.path ? -1 : 1));

/** What is made from drafts: the texts of definitions, how tables stand, counts of drafts, reviews. */
const OF_DRAFTS = ['Drafts', 'State', 'Examples', 'Agreements', 'Workspaces', 'Releases'] as const;

export const workspacesApi = api.injectEndpoints({
  endpoints: (b) => ({
    workspaces: b.query<WorkspaceEntry[], void>({ query: () => 'workspaces', providesTags: ['Workspaces'] }),
    openWorkspace: b.mutation<WorkspaceEntry, string>({
      query: (name) => ({ url: 'workspaces', method: 'POST', body: { name } }),
      invalidatesTags: ['Workspaces'],
    }),
    deleteWorkspace: b.mutation<void, { slug: string; consents: readonly string[] }>({
      query: ({ slug, consents }) => ({ url: `${at(slug)}/deletion`, method: 'POST', body: { consents } }),
      invalidatesTags: (_, error) => (error ? [] : ['Workspaces', 'State']),
    }),
    sharing: b.query<Sharing, string>({ query: (slug) => `${at(slug)}/sharing`, providesTags: ['Workspaces'] }),
    shareWorkspace: b.mutation<Sharing, { slug: string; all: boolean; names: readonly string[] }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/sharing`, method: 'PUT', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Workspaces', 'Files']),
    }),
    files: b.query<ProjectFiles, string>({
      /** Only what changed since the commit that is known here is sent. */
      queryFn: async (slug, { getState }, _, send) => {
        const known = knownFiles(getState(), slug);
        const { data, error } = await send(`${at(slug)}/files${known ? `?since=${known.commit}` : ''}`);
        return error ? { error } : { data: merged(known, data as FilesAnswer) };
      },
      providesTags: ['Files'],
    }),
    keepDraft: b.mutation<DraftEntry, { slug: string; path: string; text: string | null; version: number }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/drafts`, method: 'PUT', body }),
      /** The draft is part of the files at once: what is saved next is saved over it. */
      onQueryStarted: async ({ slug }, { dispatch, queryFulfilled }) => {
        const saved = await queryFulfilled.catch(() => undefined);
        if (saved)
          dispatch(
            workspacesApi.util.updateQueryData('files', slug, (f) => ({
              ...f,
              drafts: withDraft(f.drafts, saved.data),
            })),
          );
      },
      invalidatesTags: (_, error) => (error ? [] : ['Files', ...OF_DRAFTS]),
    }),
    dropDraft: b.mutation<void, { slug: string; path: string }>({
      query: ({ slug, path }) => ({ url: `${at(slug)}/drafts?path=${encodeURIComponent(path)}`, method: 'DELETE' }),
      onQueryStarted: async ({ slug, path }, { dispatch, queryFulfilled }) => {
        const dropped = await queryFulfilled.catch(() => undefined);
        if (dropped)
          dispatch(
            workspacesApi.util.updateQueryData('files', slug, (f) => ({
              ...f,
              drafts: f.drafts.filter((d) => d.path !== path),
            })),
          );
      },
      invalidatesTags: ['Files', ...OF_DRAFTS],
    }),
    rebaseDraft: b.mutation<void, { slug: string; path: string }>({
      query: ({ slug, path }) => ({ url: `${at(slug)}/drafts/rebase`, method: 'POST', body: { path } }),
      invalidatesTags: ['Files'],
    }),
    commit: b.mutation<Commit, { slug: string; message: string }>({
      query: ({ slug, message }) => ({ url: `${at(slug)}/commits`, method: 'POST', body: { message } }),
      invalidatesTags: (_, error) => (error ? [] : ['Files', 'Runs', ...OF_DRAFTS]),
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
      invalidatesTags: ['Files', ...OF_DRAFTS],
    }),
  }),
});

export const {
  useWorkspacesQuery,
  useDeleteWorkspaceMutation,
  useSharingQuery,
  useShareWorkspaceMutation,
  useOpenWorkspaceMutation,
  useFilesQuery,
  useKeepDraftMutation,
  useDropDraftMutation,
  useRebaseDraftMutation,
  useCommitMutation,
  useHistoryQuery,
  useFileAtQuery,
  useTakeProductionMutation,
} = workspacesApi;

function knownFiles(state: unknown, slug: string): ProjectFiles | undefined {
  return workspacesApi.endpoints.files.select(slug)(
    state as Parameters<ReturnType<typeof workspacesApi.endpoints.files.select>>[0],
  ).data;
}
