import type { RunDetail, RunEntry, StepDetail } from '@ouvrage/api/run';
import { api, at } from './api';

export type ScriptForm = 'script' | 'procedures';

/** Where the SQL of loads is had as text. @param tables full names with commas between; empty for all */
export const scriptAddress = (
  slug: string,
  { tables, upstream, form }: { tables: string; upstream: boolean; form: ScriptForm },
) => `/api/${at(slug)}/script?tables=${encodeURIComponent(tables)}&upstream=${upstream}&form=${form}`;

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    runs: b.query<RunEntry[], string>({
      query: (environment) => `runs?environment=${encodeURIComponent(environment)}`,
      providesTags: ['Runs'],
    }),
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
    step: b.query<StepDetail, { run: number; step: number; state: string }>({
      query: ({ run, step }) => `runs/${run}/steps/${step}`,
    }),
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
    startChecks: b.mutation<RunEntry, { slug: string; checks: readonly string[]; tables: readonly string[] }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/checks`, method: 'POST', body }),
      invalidatesTags: ['Runs'],
    }),
    stopRun: b.mutation<void, number>({
      query: (id) => ({ url: `runs/${id}/stop`, method: 'POST' }),
      invalidatesTags: ['Runs'],
    }),
    continueRun: b.mutation<RunEntry, number>({
      query: (id) => ({ url: `runs/${id}/continue`, method: 'POST' }),
      invalidatesTags: ['Runs'],
    }),
    script: b.query<string, { slug: string; tables: string; upstream: boolean; form: ScriptForm }>({
      query: ({ slug, ...of }) => ({ url: scriptAddress(slug, of).slice('/api/'.length), responseHandler: 'text' }),
      providesTags: ['State', 'Files', 'Drafts'],
    }),
  }),
});

export const {
  useRunsQuery,
  useRunQuery,
  useStepQuery,
  useStartRunMutation,
  useStartChecksMutation,
  useStopRunMutation,
  useContinueRunMutation,
  useScriptQuery,
} = endpoints;
