import { jest } from '@jest/globals';
import { loadParser } from '@ouvrage/core/sql';
import { configureStore } from '@reduxjs/toolkit';
import { configure, fireEvent, render, screen, type RenderResult } from '@testing-library/react';
import { Tooltip } from 'radix-ui';
import type { ReactNode } from 'react';
import { Provider } from 'react-redux';
import { MemoryRouter, Route, Routes, useLocation } from 'react-router';
import type { Person } from '@ouvrage/api/people';
import type { IncidentEntry } from '@ouvrage/api/incident';
import type { CheckState } from '@ouvrage/api/quality';
import type { RunEntry } from '@ouvrage/api/run';
import type { Request as Asked } from './worker/protocol';

/** What is waited for may take a while where other tests run beside. */
configure({ asyncUtilTimeout: 15_000 });

/** The worker's answers without a worker. Mocked before what imports it is imported. */
jest.unstable_mockModule('./worker/client', () => ({
  projectWorker: {
    ask: async (request: Asked) => {
      await loadParser();
      const { answer } = await import('./worker/answer');
      return answer(request);
    },
  },
}));
const { api } = await import('./data/api');
const { peopleApi } = await import('./data/people');
const { store } = await import('./data/store');
const { ProjectProvider } = await import('./data/project');
const { ToastProvider } = await import('./shared/toasts');

/** What the server answers to `GET deliveries`: a value, or a function of what was sent. A `Problem` is an error. */
export type Answers = Readonly<Record<string, unknown>>;

export class Problem {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail?: string,
    readonly more: object = {},
  ) {}
}

/** An answer that comes as lines of JSON. */
export class Lines {
  constructor(readonly lines: readonly unknown[]) {}
}

export interface Sent {
  readonly method: string;
  /** Behind `/api/`, with its query. */
  readonly path: string;
  readonly body: unknown;
}

/** Answers requests from a table. @returns those that were sent, reading apart from changing ones */
export function serve(answers: Answers): { readonly read: Sent[]; readonly changed: Sent[] } {
  const sent = { read: [] as Sent[], changed: [] as Sent[] };
  globalThis.fetch = async (input) => {
    const request = input as Request;
    const path = request.url.replace(/^.*\/api\//, '');
    const text = await request.text();
    const isJson = request.headers.get('content-type')?.startsWith('application/json');
    const body = text === '' ? undefined : isJson ? (JSON.parse(text) as unknown) : text;
    const asked: Sent = { method: request.method, path, body };
    (request.method === 'GET' ? sent.read : sent.changed).push(asked);
    const key = [`${request.method} ${path}`, `${request.method} ${path.split('?')[0]!}`].find((k) => k in answers);
    if (key === undefined)
      return new Response(
        JSON.stringify({ code: 'not-found', status: 404, title: `nothing answers ${request.method} ${path}` }),
        { status: 404 },
      );
    const found = answers[key];
    const value: unknown = await (typeof found === 'function' ? (found as (sent: Sent) => unknown)(asked) : found);
    if (value instanceof Problem)
      return new Response(
        JSON.stringify({ code: 'x', status: value.status, title: value.title, detail: value.detail, ...value.more }),
        {
          status: value.status,
        },
      );
    if (value instanceof Lines)
      return new Response(value.lines.map((l) => `${JSON.stringify(l)}\n`).join(''), {
        headers: { 'content-type': 'application/x-ndjson' },
      });
    return value === undefined
      ? new Response(null, { status: 204 })
      : new Response(JSON.stringify(value), { headers: { 'content-type': 'application/json' } });
  };
  return sent;
}

export const PEOPLE: Readonly<Record<Person['role'], Person>> = {
  viewer: { name: 'vera', displayName: 'Vera', role: 'viewer' },
  editor: { name: 'jonas', displayName: 'Jonas', role: 'editor' },
  releaser: { name: 'mira', displayName: 'Mira', role: 'releaser' },
  administrator: { name: 'admin', displayName: 'Ada', role: 'administrator' },
};

/** A small project: a source, a staging view, a dimension with a history and a fact. */
export const FILES: Readonly<Record<string, string>> = {
  'layers.sql': 'create schema landing; create schema staging; create schema core;',
  'sources/port.sql': `create server port foreign data wrapper postgres_fdw;
create foreign table landing.berth (berth_code text not null, length_m numeric(6,1), primary key (berth_code)) server port;`,
  'staging/berth.sql': 'select berth_code, length_m from landing.berth',
  'core/dim_berth.sql': `create table core.dim_berth (
  berth_key bigint options (role 'surrogate key') primary key,
  berth_code text not null,
  length_m numeric(6,1)
) with (load = merge, business_key = 'berth_code');
select berth_code, length_m from staging.berth;`,
};

/** A check of a table. @param id `core.dim_berth/dim_berth_pkey` */
export const checkOf = (id: string, of: Partial<CheckState> = {}): CheckState => ({
  id,
  kind: 'key',
  title: id,
  table: id.split('/')[0]!,
  columns: [],
  advisory: false,
  tolerate: null,
  comment: null,
  verdict: 'holds',
  atFault: null,
  total: null,
  at: '2026-01-02T00:00:00Z',
  run: 1,
  environment: 'dues',
  ...of,
});

export const incidentOf = (id: number, of: Partial<IncidentEntry> = {}): IncidentEntry => ({
  id,
  title: `Incident ${id}`,
  state: 'open',
  severity: 'medium',
  lead: null,
  openedBy: 'Jonas',
  since: '2026-01-02T00:00:00Z',
  openedAt: '2026-01-02T01:00:00Z',
  closedAt: null,
  reopened: 0,
  subjects: [{ kind: 'check', subject: 'core.dim_berth/dim_berth_pkey', table: 'core.dim_berth' }],
  ...of,
});

export const runOf = (id: number, of: Partial<RunEntry> = {}): RunEntry => ({
  id,
  kind: 'build',
  environment: 'dues',
  commit: 'abcdef0123',
  state: 'succeeded',
  person: 'Jonas',
  tables: [],
  upstream: false,
  downstream: false,
  parallelism: 4,
  parameters: {},
  error: null,
  continues: null,
  job: null,
  createdAt: '2026-01-02T00:00:00Z',
  startedAt: '2026-01-02T00:00:00Z',
  finishedAt: '2026-01-02T00:00:05Z',
  ...of,
});

/** Answers that every place asks for. */
export const around = (role: Person['role'] = 'editor', slug = 'dues'): Answers => ({
  'GET session': { person: PEOPLE[role], csrf: 'x' },
  'GET workspaces': [
    {
      slug: 'dues',
      name: 'Dues',
      owner: 'Jonas',
      isShared: role !== 'viewer',
      sharedWith: [],
      createdAt: '2026-01-01T00:00:00Z',
      prefix: 'w_dues',
      drafts: 0,
      changedAt: '2026-01-01T00:00:00Z',
    },
  ],
  [`GET workspaces/${slug}/files`]: {
    project: 'p',
    slug,
    name: slug === 'production' ? 'production' : 'Dues',
    keptBy: null,
    commit: 'a'.repeat(40),
    files: FILES,
    since: null,
    drafts: [],
  },
  [`GET workspaces/${slug}/state`]: { tables: [], checks: [] },
  'GET watches': [],
  'GET incidents': { incidents: [], people: [] },
});

function Where() {
  const { pathname, search } = useLocation();
  return <output aria-label="address">{pathname + search}</output>;
}

/** Renders a place of a workspace, once its project is read. */
export async function renderPlace(
  place: ReactNode,
  { at = '/w/dues/x', route = '/w/:ws/*' } = {},
): Promise<RenderResult> {
  // Nothing is left of the place before.
  store.dispatch(api.util.resetApiState());
  await store.dispatch(peopleApi.endpoints.session.initiate());
  return render(
    <Provider store={store as ReturnType<typeof configureStore>}>
      <Tooltip.Provider>
        <ToastProvider>
          <MemoryRouter initialEntries={[at]}>
            <Where />
            <Routes>
              <Route
                path={route}
                element={
                  <ProjectProvider
                    loading={<p>Reading the project</p>}
                    failed={(problem) => <p role="alert">{problem.title}</p>}
                  >
                    {place}
                  </ProjectProvider>
                }
              />
              <Route path="*" element={null} />
            </Routes>
          </MemoryRouter>
        </ToastProvider>
      </Tooltip.Provider>
    </Provider>,
  );
}

/** Opens a menu as the keyboard does: pages of tests have no pointer. */
export const openMenu = (name: string | RegExp): void => {
  fireEvent.keyDown(screen.getByRole('button', { name }), { key: 'Enter' });
};
