import { createApi, fetchBaseQuery, type BaseQueryFn, type FetchArgs } from '@reduxjs/toolkit/query/react';
import type { ProblemBody } from '@ouvrage/api/problem';
import { setClockOffset } from './time';

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
  setClockOffset(Number(result.meta?.response?.headers.get('ouvrage-clock') ?? 0));
  if (!result.error) return { data: result.data };
  const { status, data } = result.error;
  const body = parsed(data);
  if (body) return { error: body };
  return { error: unreachable(status === 'FETCH_ERROR' ? undefined : String(status)) };
};

const unreachable = (detail = 'Check that it is running; what you typed is kept here.'): ProblemBody => ({
  code: 'unreachable',
  status: 0,
  title: 'The server does not answer',
  detail,
});

/** Sends a request whose answer comes line by line. @throws ProblemBody, or an AbortError */
export async function postLines(
  path: string,
  { body, signal }: { readonly body: unknown; readonly signal: AbortSignal },
  onLine: (line: unknown) => void,
): Promise<void> {
  const response = await fetch(
    new Request(`/api/${path}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', ...(csrf ? { 'x-csrf-token': csrf } : {}) },
      body: JSON.stringify(body),
      signal,
    }),
  ).catch((error: unknown) => {
    throw signal.aborted ? error : unreachable();
  });
  if (!response.ok) throw parsed(await response.text()) ?? unreachable(String(response.status));
  const decoder = new TextDecoder();
  let rest = '';
  for await (const chunk of chunksOf(response)) {
    const lines = (rest + decoder.decode(chunk, { stream: true })).split('\n');
    rest = lines.pop()!;
    for (const line of lines) if (line) onLine(JSON.parse(line));
  }
}

async function* chunksOf(response: Response): AsyncGenerator<Uint8Array> {
  const reader = response.body!.getReader();
  for (let read = await reader.read(); !read.done; read = await reader.read()) yield read.value as Uint8Array;
}

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
    'Incidents',
    'Examples',
    'Notices',
    'Agreements',
    'Receivers',
    'Sending',
    'Session',
    'Sessions',
    'SessionLimits',
    'People',
    'Connections',
    'Workspaces',
    'Files',
    'Drafts',
    'State',
    'Runs',
    'Jobs',
    'Releases',
    'Reviews',
    'Sources',
    'Tokens',
    'Harbour',
  ],
  endpoints: () => ({}),
});
