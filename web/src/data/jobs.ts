import type { JobEntry, JobStartEntry } from '@ouvrage/api/job';
import { api } from './api';

export const { useJobsQuery, useStartJobMutation, usePauseJobMutation } = api.injectEndpoints({
  endpoints: (b) => ({
    jobs: b.query<JobEntry[], void>({ query: () => 'jobs', providesTags: ['Jobs', 'Runs', 'Releases'] }),
    startJob: b.mutation<JobStartEntry, string>({
      query: (name) => ({ url: `jobs/${encodeURIComponent(name)}/start`, method: 'POST' }),
      invalidatesTags: ['Jobs', 'Runs'],
    }),
    pauseJob: b.mutation<void, { name: string; paused: boolean }>({
      query: ({ name, paused }) => ({
        url: `jobs/${encodeURIComponent(name)}/pause`,
        method: 'PUT',
        body: { paused },
      }),
      invalidatesTags: ['Jobs'],
    }),
  }),
});
