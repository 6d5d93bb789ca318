import type { AccessToken, AuditEntry, NewToken, SessionAnswer, TokenRight } from '@ouvrage/api/people';
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
  useTokensQuery,
  useCreateTokenMutation,
  useDeleteTokenMutation,
  useAuditInfiniteQuery,
} = peopleApi;
