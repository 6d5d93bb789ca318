import { createApi, fetchBaseQuery, type BaseQueryFn, type FetchArgs } from '@reduxjs/toolkit/query/react';
import type { Drift } from '@ouvrage/core/intake';
import type { Treatment } from '@ouvrage/core/review';
import type {
  AccessToken,
  AuditEntry,
  CatalogEntry,
  ConnectionEntry,
  ConnectionInput,
  ConnectionTest,
  DeliveryEntry,
  DeliverySearch,
  BoundEnvironment,
  CheckResult,
  Commit,
  Comparison,
  DraftEntry,
  FilesAnswer,
  LoadEntry,
  Look,
  PageAnswer,
  ProfileAnswer,
  PreviewSample,
  ProposedFile,
  ProblemBody,
  ReleaseEntry,
  RunDetail,
  RunEntry,
  Rows,
  SessionAnswer,
  SourceSystem,
  StateAnswer,
  StepDetail,
  StepError,
  TodayAnswer,
  WorkspaceEntry,
} from './types';

/** The session's own token, sent with whatever changes something. */
let csrf: string | null = null;

const raw = fetchBaseQuery({
  baseUrl: '/api/',
  prepareHeaders: (headers) => {
    if (csrf) headers.set('x-csrf-token', csrf);
    return headers;
  },
});

/** Every error becomes a problem with a title, also when the server cannot be reached. */
const baseQuery: BaseQueryFn<string | FetchArgs, unknown, ProblemBody> = async (args, api, extra) => {
  const result = await raw(args, api, extra);
  if (!result.error) return { data: result.data };
  const { status, data } = result.error;
  const body = parsed(data);
  if (body) return { error: body };
  return {
    error: {
      code: 'unreachable',
      status: 0,
      title: 'The server does not answer',
      detail: status === 'FETCH_ERROR' ? 'Check that it is running; what you typed is kept here.' : String(status),
    },
  };
};

function parsed(data: unknown): ProblemBody | undefined {
  try {
    const body = (typeof data === 'string' ? JSON.parse(data) : data) as ProblemBody | undefined;
    return body && typeof body.title === 'string' ? body : undefined;
  } catch {
    return undefined;
  }
}

/** Entries of one page, as the server cuts them. */
const AUDIT_PAGE = 100;

/** Rows that are read at a time. */
const PAGE_ROWS = 200;

const at = (slug: string) => `workspaces/${encodeURIComponent(slug)}`;

export type ScriptForm = 'script' | 'procedures';

/** Where the SQL of loads is had as text. @param tables full names with commas between; empty for all */
export const scriptAddress = (slug: string, { tables, upstream, form }: { tables: string; upstream: boolean; form: ScriptForm }) =>
  `/api/${at(slug)}/script?tables=${encodeURIComponent(tables)}&upstream=${upstream}&form=${form}`;

export const api = createApi({
  reducerPath: 'api',
  baseQuery,
  tagTypes: ['Session', 'Connections', 'Workspaces', 'Files', 'State', 'Runs', 'Releases', 'Sources', 'Tokens', 'Harbour'],
  endpoints: (b) => ({
    session: b.query<SessionAnswer, void>({
      query: () => 'session',
      providesTags: ['Session'],
      transformResponse: (answer: SessionAnswer) => {
        csrf = answer.csrf;
        return answer;
      },
    }),
    signIn: b.mutation<SessionAnswer, { name: string; password: string }>({
      query: (body) => ({ url: 'sign-in', method: 'POST', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Session']),
    }),
    signOut: b.mutation<void, void>({ query: () => ({ url: 'sign-out', method: 'POST' }), invalidatesTags: ['Session'] }),
    tokens: b.query<AccessToken[], void>({ query: () => 'tokens', providesTags: ['Tokens'] }),
    createToken: b.mutation<{ token: string; id: string }, string>({
      query: (label) => ({ url: 'tokens', method: 'POST', body: { label } }),
      invalidatesTags: ['Tokens'],
    }),
    deleteToken: b.mutation<void, string>({ query: (id) => ({ url: `tokens/${id}`, method: 'DELETE' }), invalidatesTags: ['Tokens'] }),
    audit: b.infiniteQuery<AuditEntry[], string, string | undefined>({
      query: ({ queryArg, pageParam }) => `audit?text=${encodeURIComponent(queryArg)}${pageParam === undefined ? '' : `&before=${pageParam}`}`,
      infiniteQueryOptions: { initialPageParam: undefined, getNextPageParam: (page) => (page.length === AUDIT_PAGE ? page.at(-1)?.id : undefined) },
      keepUnusedDataFor: 0,
    }),

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

    state: b.query<StateAnswer, string>({ query: (slug) => `${at(slug)}/state`, providesTags: ['State'] }),
    pages: b.infiniteQuery<PageAnswer, { slug: string; table: string; look: Look }, PageAnswer['next']>({
      query: ({ queryArg: { slug, table, look }, pageParam }) => ({
        url: `${at(slug)}/page`,
        method: 'POST',
        body: { table, ...look, limit: PAGE_ROWS, ...(pageParam ? { after: pageParam } : {}) },
      }),
      infiniteQueryOptions: { initialPageParam: null, getNextPageParam: (page) => page.next ?? undefined },
      providesTags: ['State'],
      keepUnusedDataFor: 5,
    }),
    script: b.query<string, { slug: string; tables: string; upstream: boolean; form: ScriptForm }>({
      query: ({ slug, ...of }) => ({ url: scriptAddress(slug, of).slice('/api/'.length), responseHandler: 'text' }),
      providesTags: ['State', 'Files'],
    }),
    profile: b.query<ProfileAnswer, { slug: string; table: string; production: boolean }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/profile`, method: 'POST', body }),
      providesTags: ['State'],
    }),
    preview: b.mutation<Rows, { slug: string; path: string; text: string; limit: number; sample?: PreviewSample }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/preview`, method: 'POST', body }),
    }),
    validate: b.query<StepError[], { slug: string; path: string; text: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/validate`, method: 'POST', body }),
      providesTags: ['State', 'Files'],
      keepUnusedDataFor: 30,
    }),
    describe: b.query<{ name: string; type: string }[], { slug: string; path: string; text: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/describe`, method: 'POST', body }),
      providesTags: ['State', 'Files'],
      keepUnusedDataFor: 5,
    }),
    checkHistory: b.query<CheckResult[], { slug: string; id: string }>({
      query: ({ slug, id }) => `${at(slug)}/check-history?id=${encodeURIComponent(id)}`,
      providesTags: ['State'],
    }),
    loads: b.query<LoadEntry[], { slug: string; table: string }>({
      query: ({ slug, table }) => `${at(slug)}/loads?table=${encodeURIComponent(table)}`,
      providesTags: ['State'],
    }),

    runs: b.query<RunEntry[], string>({ query: (environment) => `runs?environment=${encodeURIComponent(environment)}`, providesTags: ['Runs'] }),
    run: b.query<RunDetail, number>({
      query: (id) => `runs/${id}`,
      providesTags: ['Runs'],
      /** Follows the run live for as long as it goes on. */
      async onCacheEntryAdded(id, { updateCachedData, cacheDataLoaded, cacheEntryRemoved, dispatch }) {
        const first = await cacheDataLoaded.catch(() => undefined);
        if (!first) return;
        // A quick run has ended before it is first looked at: what it changed is read again all the same.
        if (!['queued', 'running'].includes(first.data.state)) {
          dispatch(api.util.invalidateTags(['State', 'Sources', 'Releases', 'Files']));
          return;
        }
        const events = new EventSource(`/api/runs/${id}/events`);
        events.onmessage = ({ data }: MessageEvent<string>) => {
          const run = JSON.parse(data) as RunDetail;
          updateCachedData(() => run);
          if (['queued', 'running'].includes(run.state)) return;
          events.close();
          dispatch(api.util.invalidateTags(['State', 'Runs', 'Sources', 'Releases', 'Files']));
        };
        await cacheEntryRemoved;
        events.close();
      },
    }),
    step: b.query<StepDetail, { run: number; step: number; state: string }>({ query: ({ run, step }) => `runs/${run}/steps/${step}` }),
    startRun: b.mutation<
      RunEntry,
      {
        slug: string;
        tables: readonly string[];
        upstream: boolean;
        downstream: boolean;
        parameters?: Readonly<Record<string, string>>;
        startOver?: readonly string[];
      }
    >({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/runs`, method: 'POST', body }),
      invalidatesTags: ['Runs'],
    }),
    stopRun: b.mutation<void, number>({ query: (id) => ({ url: `runs/${id}/stop`, method: 'POST' }), invalidatesTags: ['Runs'] }),
    continueRun: b.mutation<RunEntry, number>({ query: (id) => ({ url: `runs/${id}/continue`, method: 'POST' }), invalidatesTags: ['Runs'] }),

    sources: b.query<SourceSystem[], string>({ query: (slug) => `${at(slug)}/sources`, providesTags: ['Sources', 'State'] }),
    connections: b.query<ConnectionEntry[], void>({ query: () => 'connections', providesTags: ['Connections'] }),
    keepConnection: b.mutation<void, { id: string | undefined; input: ConnectionInput }>({
      query: ({ id, input }) => ({ url: id === undefined ? 'connections' : `connections/${id}`, method: id === undefined ? 'POST' : 'PUT', body: input }),
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
    catalog: b.query<{ server: string; isBound: boolean; administrators: string[]; tables: CatalogEntry[] }, { slug: string; connection: string }>({
      query: ({ slug, connection }) => `${at(slug)}/catalog/${connection}`,
      providesTags: ['Files'],
      keepUnusedDataFor: 0,
    }),
    proposeImport: b.mutation<ProposedFile[], { slug: string; connection: string; tables: readonly { schema: string; name: string }[] }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/import`, method: 'POST', body }),
    }),
    bindNew: b.mutation<void, { slug: string; connection: string; server: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/import/bind`, method: 'POST', body }),
      invalidatesTags: ['Connections', 'Sources'],
    }),
    compareSources: b.mutation<Record<string, Drift | null>, { slug: string; server: string }>({
      query: ({ slug, server }) => ({ url: `${at(slug)}/sources/${encodeURIComponent(server)}/compare`, method: 'POST', body: { tables: [] } }),
      invalidatesTags: ['Sources', 'State'],
    }),
    proposeTakeOver: b.mutation<ProposedFile[], { slug: string; server: string; tables: readonly string[] }>({
      query: ({ slug, server, tables }) => ({ url: `${at(slug)}/sources/${encodeURIComponent(server)}/take-over`, method: 'POST', body: { tables } }),
    }),
    deliveries: b.query<{ folder: string; files: DeliveryEntry[]; more: boolean }, DeliverySearch>({
      query: (params) => ({ url: 'deliveries', params: { ...params } }),
      providesTags: ['Sources'],
    }),
    rejects: b.query<{ rows: (string | null)[][]; isFull: boolean }, number>({ query: (id) => `deliveries/${id}/rejects`, providesTags: ['Sources'] }),
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
    lookIntoDrop: b.mutation<void, void>({ query: () => ({ url: 'deliveries/look', method: 'POST' }), invalidatesTags: ['Sources', 'State', 'Runs'] }),
    bringIn: b.mutation<RunEntry, { slug: string; tables: readonly string[] }>({
      query: ({ slug, tables }) => ({ url: `${at(slug)}/intake`, method: 'POST', body: { tables } }),
      invalidatesTags: ['Runs'],
    }),
    harbour: b.query<{ day: number | null; date: string | null }, void>({ query: () => 'harbour', providesTags: ['Harbour'] }),
    advance: b.mutation<{ day: number; date: string }, number>({
      query: (days) => ({ url: 'harbour/advance', method: 'POST', body: { days } }),
      invalidatesTags: ['Harbour'],
    }),

    comparison: b.query<Comparison, string>({ query: (slug) => `${at(slug)}/comparison`, providesTags: ['Releases', 'State'] }),
    release: b.mutation<RunEntry, { slug: string; message: string; consents: readonly string[]; treatments: Readonly<Record<string, Treatment>> }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/release`, method: 'POST', body }),
      invalidatesTags: ['Runs'],
    }),
    releases: b.query<ReleaseEntry[], void>({ query: () => 'releases', providesTags: ['Releases'] }),
    today: b.query<TodayAnswer, string>({ query: (slug) => `${at(slug)}/today`, providesTags: ['State', 'Runs', 'Files'] }),
  }),
});

/** The address of a look's rows as a file. */
export function exportAddress(slug: string, table: string, look: Look, format: string): string {
  return `/api/${at(slug)}/export?format=${format}&look=${encodeURIComponent(JSON.stringify({ table, ...look }))}`;
}

export const {
  useSessionQuery,
  useSignInMutation,
  useSignOutMutation,
  useTokensQuery,
  useCreateTokenMutation,
  useDeleteTokenMutation,
  useAuditInfiniteQuery,
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
  useStateQuery,
  usePagesInfiniteQuery,
  useProfileQuery,
  usePreviewMutation,
  useDescribeQuery,
  useScriptQuery,
  useValidateQuery,
  useCheckHistoryQuery,
  useLoadsQuery,
  useRunsQuery,
  useRunQuery,
  useStepQuery,
  useStartRunMutation,
  useStopRunMutation,
  useContinueRunMutation,
  useSourcesQuery,
  useConnectionsQuery,
  useKeepConnectionMutation,
  useTestConnectionMutation,
  useDeleteConnectionMutation,
  useBindServerMutation,
  useCatalogQuery,
  useProposeImportMutation,
  useBindNewMutation,
  useCompareSourcesMutation,
  useProposeTakeOverMutation,
  useDeliveriesQuery,
  useRejectsQuery,
  useRetryDeliveryMutation,
  useSendFileMutation,
  useLookIntoDropMutation,
  useBringInMutation,
  useHarbourQuery,
  useAdvanceMutation,
  useComparisonQuery,
  useReleaseMutation,
  useReleasesQuery,
  useTodayQuery,
} = api;
