import type {
  Desk,
  NoticeList,
  OutboxEntry,
  Reading,
  Receivers,
  SendingEntry,
  SendingSettings,
} from '@ouvrage/api/message';
import { api } from './api';

export type DeskInput = Pick<Desk, 'name' | 'members' | 'mail' | 'webhook'>;
export type SendingInput = Omit<SendingSettings, 'mail'> & {
  readonly mail: (Omit<NonNullable<SendingSettings['mail']>, 'hasPassword'> & { readonly password?: string }) | null;
};

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    notices: b.query<NoticeList, void>({ query: () => 'messages', providesTags: ['Notices', 'Incidents', 'State'] }),
    readNotices: b.mutation<void, readonly string[]>({
      query: (ids) => ({ url: 'messages/read', method: 'POST', body: { ids } }),
      invalidatesTags: ['Notices'],
    }),
    reading: b.query<Reading, void>({ query: () => 'reading', providesTags: ['Receivers'] }),
    saveReading: b.mutation<void, Omit<Reading, 'mail'>>({
      query: (body) => ({ url: 'reading', method: 'PUT', body }),
      invalidatesTags: ['Receivers'],
    }),
    receivers: b.query<Receivers, void>({ query: () => 'receivers', providesTags: ['Receivers'] }),
    saveDesk: b.mutation<{ id: string; secret: string | null }, DeskInput & { id?: string }>({
      query: ({ id, ...body }) => ({
        url: id === undefined ? 'desks' : `desks/${id}`,
        method: id === undefined ? 'POST' : 'PUT',
        body,
      }),
      invalidatesTags: ['Receivers'],
    }),
    deleteDesk: b.mutation<void, string>({
      query: (id) => ({ url: `desks/${id}`, method: 'DELETE' }),
      invalidatesTags: ['Receivers'],
    }),
    saveMail: b.mutation<void, { name: string; mail: string | null }>({
      query: ({ name, mail }) => ({ url: `people/${encodeURIComponent(name)}/mail`, method: 'PUT', body: { mail } }),
      invalidatesTags: ['Receivers'],
    }),
    sending: b.query<SendingSettings, void>({ query: () => 'sending', providesTags: ['Sending'] }),
    saveSending: b.mutation<void, SendingInput>({
      query: (body) => ({ url: 'sending', method: 'PUT', body }),
      invalidatesTags: ['Sending'],
    }),
    sendings: b.query<SendingEntry[], void>({ query: () => 'sendings', providesTags: ['Sending'] }),
    sendAgain: b.mutation<void, string>({
      query: (id) => ({ url: `sendings/${id}/again`, method: 'POST' }),
      invalidatesTags: ['Sending'],
    }),
    outbox: b.query<OutboxEntry[], void>({ query: () => 'outbox' }),
  }),
});

export const {
  useNoticesQuery,
  useReadNoticesMutation,
  useReadingQuery,
  useSaveReadingMutation,
  useReceiversQuery,
  useSaveDeskMutation,
  useDeleteDeskMutation,
  useSaveMailMutation,
  useSendingQuery,
  useSaveSendingMutation,
  useSendingsQuery,
  useSendAgainMutation,
  useOutboxQuery,
} = endpoints;
