import type { CheckOutcome, CheckSeries, LoadEntry, QualityDay, QualityDays, StateAnswer } from '@ouvrage/api/quality';
import { api, at } from './api';

/** Whose verdicts are asked for: those of the workspace's own runs, or production's. */
export type VerdictsOf = 'here' | 'production';

/** The zone of the person; days are its own. */
export const ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC';

const query = (values: Readonly<Record<string, string | number>>) =>
  new URLSearchParams(Object.entries(values).map(([k, v]) => [k, String(v)])).toString();

/** Where verdicts are had as a file. */
export const qualityFile = (slug: string, of: { of: VerdictsOf; days: number; format: 'csv' | 'junit' }) =>
  `/api/${at(slug)}/quality/export?${query({ ...of, zone: ZONE })}`;

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    state: b.query<StateAnswer, string>({ query: (slug) => `${at(slug)}/state`, providesTags: ['State'] }),
    checkHistory: b.query<CheckOutcome[], { slug: string; id: string }>({
      query: ({ slug, id }) => `${at(slug)}/check-history?id=${encodeURIComponent(id)}`,
      providesTags: ['State'],
    }),
    qualityDays: b.query<QualityDays, { slug: string; of: VerdictsOf; days: number }>({
      query: ({ slug, ...asked }) => `${at(slug)}/quality/days?${query({ ...asked, zone: ZONE })}`,
      providesTags: ['State'],
    }),
    qualityDay: b.query<QualityDay, { slug: string; of: VerdictsOf; table: string; day: string }>({
      query: ({ slug, ...asked }) => `${at(slug)}/quality/day?${query({ ...asked, zone: ZONE })}`,
      providesTags: ['State'],
    }),
    checkSeries: b.query<CheckSeries, { slug: string; of: VerdictsOf; id: string }>({
      query: ({ slug, ...asked }) => `${at(slug)}/quality/series?${query(asked)}`,
      providesTags: ['State'],
    }),
    loads: b.query<LoadEntry[], { slug: string; table: string }>({
      query: ({ slug, table }) => `${at(slug)}/loads?table=${encodeURIComponent(table)}`,
      providesTags: ['State'],
    }),
  }),
});

export const {
  useStateQuery,
  useCheckHistoryQuery,
  useQualityDaysQuery,
  useQualityDayQuery,
  useCheckSeriesQuery,
  useLoadsQuery,
} = endpoints;
