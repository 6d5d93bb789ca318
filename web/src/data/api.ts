import { createApi, fetchBaseQuery, type BaseQueryFn, type FetchArgs } from '@reduxjs/toolkit/query/react';
import type { ProblemBody } from '@ouvrage/api/problem';

/** The session's own token, sent with whatever changes something. */
let csrf: string | null = null;
export const setCsrf = (token: string | null): void => {
  csrf = token;
};

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

/** Where a workspace's answers are, from `/api/`. */
export const at = (slug: string) => `workspaces/${encodeURIComponent(slug)}`;

/** The server's answers as they are kept here; each subject adds its own endpoints. */
export const api = createApi({
  reducerPath: 'api',
  baseQuery,
  tagTypes: [
    'Session',
    'Connections',
    'Workspaces',
    'Files',
    'Drafts',
    'State',
    'Runs',
    'Releases',
    'Sources',
    'Tokens',
    'Harbour',
  ],
  endpoints: () => ({}),
});
