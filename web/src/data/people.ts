import type {
  AccessToken,
  Account,
  AuditEntry,
  Issued,
  LinkOwner,
  NewToken,
  OwnSession,
  Person,
  SessionAnswer,
  SessionLimits,
  TokenRight,
} from '@ouvrage/api/people';
import { api, setCsrf } from './api';

/** Entries of one page, as the server cuts them. */
const AUDIT_PAGE = 100;

export const peopleApi = api.injectEndpoints({
  endpoints: (b) => ({
    session: b.query<SessionAnswer, void>({
      query: () => 'session',
      providesTags: ['Session'],
      transformResponse: (answer: SessionAnswer) => {
        setCsrf(answer.csrf);
        return answer;
      },
    }),
    signIn: b.mutation<SessionAnswer, { name: string; password: string }>({
      query: (body) => ({ url: 'sign-in', method: 'POST', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Session']),
    }),
    setUp: b.mutation<SessionAnswer, { code: string; name: string; displayName: string; password: string }>({
      query: (body) => ({ url: 'setup', method: 'POST', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Session']),
    }),
    linkOwner: b.query<LinkOwner, string>({
      query: (link) => ({ url: 'links/look', method: 'POST', body: { link } }),
      keepUnusedDataFor: 0,
    }),
    useLink: b.mutation<SessionAnswer, { link: string; password: string }>({
      query: (body) => ({ url: 'links/use', method: 'POST', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Session']),
    }),
    changePassword: b.mutation<void, { present: string; password: string }>({
      query: (body) => ({ url: 'me/password', method: 'PUT', body }),
      invalidatesTags: (_, error) => (error ? [] : ['Session', 'Sessions']),
    }),
    ownSessions: b.query<OwnSession[], void>({ query: () => 'me/sessions', providesTags: ['Sessions'] }),
    endSession: b.mutation<void, string>({
      query: (number) => ({ url: `me/sessions/${number}`, method: 'DELETE' }),
      invalidatesTags: ['Sessions'],
    }),
    sessionLimits: b.query<SessionLimits, void>({ query: () => 'session-limits', providesTags: ['SessionLimits'] }),
    limitSessions: b.mutation<void, SessionLimits>({
      query: (body) => ({ url: 'session-limits', method: 'PUT', body }),
      invalidatesTags: (_, error) => (error ? [] : ['SessionLimits', 'Sessions']),
    }),
    people: b.query<Account[], void>({ query: () => 'people', providesTags: ['People'] }),
    addPerson: b.mutation<Issued, Person & { issue: Issued['kind'] }>({
      query: (body) => ({ url: 'people', method: 'POST', body }),
      invalidatesTags: (_, error) => (error ? [] : ['People']),
    }),
    changePerson: b.mutation<Account, Person & { disabled: boolean }>({
      query: ({ name, ...body }) => ({ url: `people/${encodeURIComponent(name)}`, method: 'PUT', body }),
      invalidatesTags: (_, error) => (error ? [] : ['People', 'Session']),
    }),
    resetPerson: b.mutation<Issued, { name: string; issue: Issued['kind'] }>({
      query: ({ name, issue }) => ({
        url: `people/${encodeURIComponent(name)}/reset`,
        method: 'POST',
        body: { issue },
      }),
      invalidatesTags: (_, error) => (error ? [] : ['People']),
    }),
    signOut: b.mutation<void, void>({
      query: () => ({ url: 'sign-out', method: 'POST' }),
      invalidatesTags: ['Session'],
    }),
    tokens: b.query<AccessToken[], void>({ query: () => 'tokens', providesTags: ['Tokens'] }),
    createToken: b.mutation<NewToken, { label: string; rights: readonly TokenRight[]; days: number }>({
      query: (body) => ({ url: 'tokens', method: 'POST', body }),
      invalidatesTags: ['Tokens'],
    }),
    deleteToken: b.mutation<void, string>({
      query: (id) => ({ url: `tokens/${id}`, method: 'DELETE' }),
      invalidatesTags: ['Tokens'],
    }),
    audit: b.infiniteQuery<AuditEntry[], string, string | undefined>({
      query: ({ queryArg, pageParam }) =>
        `audit?text=${encodeURIComponent(queryArg)}${pageParam === undefined ? '' : `&before=${pageParam}`}`,
      infiniteQueryOptions: {
        initialPageParam: undefined,
        getNextPageParam: (page) => (page.length === AUDIT_PAGE ? page.at(-1)?.id : undefined),
      },
      keepUnusedDataFor: 0,
    }),
  }),
});

export const {
  useSessionQuery,
  useSignInMutation,
  useSignOutMutation,
  useSetUpMutation,
  useLinkOwnerQuery,
  useUseLinkMutation,
  useChangePasswordMutation,
  useOwnSessionsQuery,
  useEndSessionMutation,
  useSessionLimitsQuery,
  useLimitSessionsMutation,
  usePeopleQuery,
  useAddPersonMutation,
  useChangePersonMutation,
  useResetPersonMutation,
  useTokensQuery,
  useCreateTokenMutation,
  useDeleteTokenMutation,
  useAuditInfiniteQuery,
} = peopleApi;
