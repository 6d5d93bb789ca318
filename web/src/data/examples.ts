import { useState } from 'react';
import type { BegunExample, ExampleState } from '@ouvrage/api/example';
import { api, at } from './api';

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    examples: b.query<ExampleState[], { slug: string; table: string }>({
      query: ({ slug, table }) => `${at(slug)}/examples?table=${encodeURIComponent(table)}`,
      providesTags: ['Examples'],
    }),
    changedExamples: b.query<ExampleState[], string>({
      query: (slug) => `${at(slug)}/examples/changed`,
      providesTags: ['Examples'],
    }),
    runExamples: b.mutation<ExampleState[], { slug: string; table: string; name?: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/examples/runs`, method: 'POST', body }),
      invalidatesTags: ['Examples', 'Releases'],
    }),
    beginExample: b.mutation<
      BegunExample,
      {
        slug: string;
        table: string;
        name: string;
        columns: readonly string[];
        rows: readonly (readonly (string | null)[])[];
      }
    >({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/examples/begin`, method: 'POST', body }),
    }),
  }),
});

/** How often is looked whether examples that run have ended. */
const POLL_MS = 700;

const { useExamplesQuery, useChangedExamplesQuery } = endpoints;
export const { useRunExamplesMutation, useBeginExampleMutation } = endpoints;

/** How often a query of examples is sent again, and what tells it: what it found. */
function usePoll(): [number, (found: readonly ExampleState[] | undefined) => void] {
  const [poll, setPoll] = useState(0);
  const follow = (found: readonly ExampleState[] | undefined) => {
    const isRunning = found?.some((s) => s.verdict === 'running') ?? false;
    if (isRunning !== poll > 0) setPoll(isRunning ? POLL_MS : 0);
  };
  return [poll, follow];
}

/** The examples of a table, asked for again while some of them run. */
export function useTableExamples(asked: { readonly slug: string; readonly table: string }) {
  const [pollingInterval, follow] = usePoll();
  const found = useExamplesQuery(asked, { pollingInterval, refetchOnMountOrArgChange: true });
  follow(found.data);
  return found;
}

/** Examples that may come to something else than in production, asked for again while some of them run. */
export function useChangedExamples(slug: string) {
  const [pollingInterval, follow] = usePoll();
  const found = useChangedExamplesQuery(slug, { pollingInterval, refetchOnMountOrArgChange: true });
  follow(found.data);
  return found;
}
