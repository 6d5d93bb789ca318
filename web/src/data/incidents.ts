import type { IncidentDetail, IncidentList, IncidentSubject } from '@ouvrage/api/incident';
import type { Severity } from '@ouvrage/core/language';
import { api } from './api';

type Subject = Pick<IncidentSubject, 'kind' | 'subject'>;

export interface IncidentChange {
  readonly title?: string;
  readonly severity?: Severity;
  readonly description?: string;
  readonly lead?: string | null;
}

const endpoints = api.injectEndpoints({
  endpoints: (b) => {
    const change = <T extends { readonly id: number }>(path: string) =>
      b.mutation<void, T>({
        query: ({ id, ...body }) => ({ url: `incidents/${id}/${path}`, method: 'POST', body }),
        invalidatesTags: ['Incidents'],
      });
    return {
      incidents: b.query<IncidentList, void>({ query: () => 'incidents', providesTags: ['Incidents', 'State'] }),
      incident: b.query<IncidentDetail, number>({
        query: (id) => `incidents/${id}`,
        providesTags: ['Incidents', 'State'],
      }),
      openIncident: b.mutation<IncidentDetail, Subject & { severity?: Severity; title?: string; description?: string }>(
        {
          query: (body) => ({ url: 'incidents', method: 'POST', body }),
          invalidatesTags: ['Incidents'],
        },
      ),
      takeIncident: change<{ id: number }>('take'),
      changeIncident: change<{ id: number } & IncidentChange>('changes'),
      remark: change<{ id: number; text: string }>('remarks'),
      closeIncident: change<{ id: number; learned: string; though?: string }>('close'),
      reopenIncident: change<{ id: number; text: string }>('reopen'),
      mergeIncident: change<{ id: number; into: number }>('merge'),
      splitIncident: b.mutation<IncidentDetail, { id: number } & Subject>({
        query: ({ id, ...body }) => ({ url: `incidents/${id}/split`, method: 'POST', body }),
        invalidatesTags: ['Incidents'],
      }),
    };
  },
});

export const {
  useIncidentsQuery,
  useIncidentQuery,
  useOpenIncidentMutation,
  useTakeIncidentMutation,
  useChangeIncidentMutation,
  useRemarkMutation,
  useCloseIncidentMutation,
  useReopenIncidentMutation,
  useMergeIncidentMutation,
  useSplitIncidentMutation,
} = endpoints;
