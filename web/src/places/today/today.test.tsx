/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import type { CheckState } from '@ouvrage/api/quality';
import type { TodayAnswer } from '@ouvrage/api/release';
import { around, checkOf, incidentOf, Problem, renderPlace, runOf, serve } from '../../testing';

const { default: Today } = await import('./today');
afterEach(cleanup);

const NOTHING: TodayAnswer = {
  incidents: [],
  toBind: [],
  failedFiles: [],
  late: [],
  drifted: [],
  broken: [],
  advisory: [],
  failedRuns: [],
  drafts: [],
  errors: [],
  tables: { all: 3, notRun: 0 },
  lastRelease: null,
  lastRun: null,
};

const show = async (answer: unknown) => {
  serve({ ...around(), 'GET workspaces/dues/today': answer });
  await renderPlace(<Today />);
};

test('where nothing needs anybody it says so, and what to do first', async () => {
  await show(NOTHING);
  expect((await screen.findByRole('heading', { level: 1 })).textContent).toBe('All is well');
  expect(screen.getByText('Workspace Dues: 3 tables, all available')).toBeTruthy();
  expect(screen.getByText('No releases yet: production is as the project started.')).toBeTruthy();
  expect(screen.getByRole('link', { name: 'Open a table' }).getAttribute('href')).toBe('/w/dues/tables');
});

const broken: CheckState = checkOf('core.dim_berth/dim_berth_pkey', {
  verdict: 'broken',
  atFault: '12',
  title: 'berth_key tells rows apart',
});
const AT = '2026-01-02T00:00:00Z';
/** Each thing that may need somebody, with what is read of it and where it leads. */
const NEEDS: readonly (readonly [
  name: string,
  answer: Partial<TodayAnswer>,
  heading: string,
  text: string,
  to: string,
])[] = [
  [
    'an incident',
    { incidents: [incidentOf(4, { title: 'Dues are missing', severity: 'high', state: 'in hand' })] },
    'Open incidents 1',
    '4. Dues are missing',
    '/w/dues/incidents/4',
  ],
  [
    'a broken check',
    { broken: [broken] },
    'Broken checks 1',
    'core.dim_berth: berth_key tells rows apart',
    '/w/dues/quality/core.dim_berth/dim_berth_pkey',
  ],
  [
    'an error',
    { errors: [{ path: 'core/dim_berth.sql', message: 'there is no column x', line: 3, column: 7 }] },
    'Errors in definitions 1',
    'there is no column x',
    '/w/dues/tables/core.dim_berth?at=3.7',
  ],
  [
    'a late source',
    { late: [{ table: 'landing.berth', since: null, allowed: '26 hours' }] },
    'Late sources 1',
    'landing.berth is late',
    '/w/dues/sources',
  ],
  ['a drifted source', { drifted: ['landing.berth'] }, 'Drifted sources 1', 'landing.berth', '/w/dues/sources'],
  [
    'a failed file',
    { failedFiles: [{ file: 'x.csv', reason: null, at: AT }] },
    'Failed files 1',
    'x.csv: it could not be loaded',
    '/w/dues/sources',
  ],
  [
    'a server without a connection',
    { toBind: [{ server: 'port', workspaces: ['dues'] }] },
    'Servers without a connection 1',
    'port is not bound to a connection',
    '/w/dues/settings/connections',
  ],
  [
    'a failed run',
    { failedRuns: [runOf(7, { state: 'failed' })] },
    'Failed runs 1',
    'Run 7, build by Jonas',
    '/w/dues/runs/7',
  ],
  [
    'a draft',
    { drafts: [{ path: 'core/x.sql', by: 'Jonas', at: AT }] },
    'Drafts 1',
    'core/x.sql',
    '/w/dues/files/core/x.sql',
  ],
  [
    'an advisory check',
    { advisory: [{ ...broken, verdict: 'advisory' }] },
    'Failing advisory checks 1',
    'core.dim_berth: berth_key tells rows apart',
    '/w/dues/quality/core.dim_berth/dim_berth_pkey',
  ],
];
test.each(NEEDS)('%s is listed and leads to its place', async (_, answer, heading, text, to) => {
  await show({ ...NOTHING, ...answer });
  expect((await screen.findByRole('heading', { level: 2, name: heading })).textContent).toBe(heading);
  expect(decodeURIComponent(screen.getByText(text).closest('a')!.getAttribute('href')!)).toBe(to);
});

test('what a watch tells is listed, and leads to the measure', async () => {
  const finding = {
    table: 'core.dim_berth',
    measure: 'rows',
    value: 412,
    least: 690.2,
    greatest: 809.7,
    by: 'level',
    from: 27,
    run: 88,
    at: AT,
    others: [],
  };
  serve({ ...around(), 'GET workspaces/dues/today': NOTHING, 'GET watches': [finding] });
  await renderPlace(<Today />);
  const line = await screen.findByText('core.dim_berth: rows: 412, expected 690 to 810');
  expect(line.closest('a')!.getAttribute('href')).toBe('/w/dues/quality?table=core.dim_berth&watch=rows');
  expect(screen.getByRole('heading', { level: 1 }).textContent).toBe('One thing needs you');
});

test('a long list is cut, and says so', async () => {
  await show({ ...NOTHING, drifted: Array.from({ length: 15 }, (_, i) => `landing.t${i}`) });
  expect(await screen.findByText('and 3 more')).toBeTruthy();
  expect((await screen.findByRole('heading', { level: 1 })).textContent).toBe('15 things need you');
});

test('the last release and the slowest steps of the last run', async () => {
  const steps = [
    { table: 'staging.berth', state: 'done' as const, rowsIn: '3', milliseconds: 20 },
    { table: 'core.dim_berth', state: 'done' as const, rowsIn: '1500', milliseconds: 2500 },
    { table: 'core.waits', state: 'waiting' as const, rowsIn: null, milliseconds: null },
  ];
  const lastRelease = {
    id: 1,
    commit: 'abcdef0123',
    workspace: 'dues',
    message: 'Dues by tonnage',
    person: 'Mira',
    tables: ['core.dim_berth'],
    runId: 4,
    at: AT,
  };
  await show({ ...NOTHING, lastRelease, lastRun: { ...runOf(9), steps } });
  expect(await screen.findByText('Dues by tonnage')).toBeTruthy();
  expect(
    screen
      .getAllByRole('row')
      .slice(1)
      .map((r) => r.textContent),
  ).toEqual([expect.stringContaining('core.dim_berth'), expect.stringContaining('staging.berth')]);
});

test('an error is shown with a way to try again', async () => {
  await show(new Problem(503, 'The database does not answer', 'Try again in a moment.'));
  expect(await screen.findByText('The database does not answer')).toBeTruthy();
  expect(screen.getByRole('button', { name: /again/i })).toBeTruthy();
});

test('what the drafts do together is said beside them', async () => {
  const draft = { path: 'staging/berth.sql', by: 'Jonas', at: AT };
  serve({
    ...around(),
    'GET workspaces/dues/today': { ...NOTHING, drafts: [draft] },
    'GET workspaces/dues/files': {
      ...(around()['GET workspaces/dues/files'] as object),
      drafts: [
        {
          ...draft,
          text: 'select berth_code, length_m + 1 as length_m from landing.berth where length_m > 0',
          version: 1,
        },
      ],
    },
  });
  await renderPlace(<Today />);
  const note = await screen.findByRole('note', { name: 'What the drafts change' });
  expect(note.textContent).toBe(
    'Values may change in staging.berth.length_m, core.dim_berth.length_mRows may change in staging.berth, core.dim_berth',
  );
});

const noticeOf = (id: string, of: object = {}) => ({
  id,
  kind: 'incident',
  severity: 'medium',
  title: `Incident ${id} opened`,
  lines: ['Failing since 05:00.', '2 rows at fault.'],
  path: `/w/production/incidents/${id}`,
  at: AT,
  readAt: null,
  ...of,
});
const told = async (notices: readonly object[], answers: object = {}, role: Person['role'] = 'editor') => {
  const unread = notices.filter((n) => !('readAt' in n) || (n as { readAt: unknown }).readAt === null).length;
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/today': NOTHING,
    'GET messages': { unread, notices },
    'POST messages/read': undefined,
    ...answers,
  });
  await renderPlace(<Today />);
  return sent;
};

test('messages that were not read are listed, each leads to what it is about and is read then', async () => {
  const sent = await told([noticeOf('3'), noticeOf('2', { severity: 'high' }), noticeOf('1', { readAt: AT })]);
  const list = await screen.findByRole('region', { name: 'Messages' });
  const lines = within(list).getAllByRole('link');
  expect(lines.map((l) => l.textContent)).toEqual([
    expect.stringMatching(/^Incident 3 openedmedium.*Failing since 05:00\. 2 rows at fault\.$/),
    expect.stringMatching(/^Incident 2 openedhigh/),
  ]);
  await userEvent.click(lines[0]!);
  await waitFor(() => expect(sent.changed).toEqual([{ method: 'POST', path: 'messages/read', body: { ids: ['3'] } }]));
  expect(screen.getByLabelText('address').textContent).toBe('/w/production/incidents/3');
});

test('all of them are read at once; of many the newest are shown', async () => {
  const sent = await told(Array.from({ length: 11 }, (_, i) => noticeOf(String(i + 1))));
  const list = await screen.findByRole('region', { name: 'Messages' });
  expect(within(list).getAllByRole('link')).toHaveLength(8);
  expect(list.textContent).toContain('and 3 more');
  await userEvent.click(within(list).getByRole('button', { name: 'Mark all as read' }));
  await waitFor(() => expect(sent.changed.at(-1)?.body).toEqual({ ids: [] }));
});

test('what could not be delivered is told to administrators alone', async () => {
  const sendings = [
    {
      id: 's1',
      channel: 'webhook',
      to: 'dues office',
      title: 'x',
      state: 'given up',
      attempts: 9,
      error: 'x',
      at: AT,
      sentAt: null,
    },
    { id: 's2', channel: 'mail', to: 'mira', title: 'x', state: 'sent', attempts: 0, error: null, at: AT, sentAt: AT },
  ];
  await told([], { 'GET sendings': sendings }, 'administrator');
  expect(await screen.findByText(/1 message could not be delivered within a day, to dues office/)).toBeTruthy();
  expect(screen.getByRole('link', { name: 'see why' }).getAttribute('href')).toBe('/w/dues/settings/sending');
  cleanup();
  await told([], { 'GET sendings': sendings }, 'releaser');
  await screen.findByRole('heading', { level: 1 });
  expect(screen.queryByText(/could not be delivered/)).toBeNull();
});
