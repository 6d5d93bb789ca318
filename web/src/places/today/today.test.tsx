/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import type { CheckState } from '@ouvrage/api/quality';
import type { FirstSteps, TodayAnswer } from '@ouvrage/api/release';
import type { WatchFinding } from '@ouvrage/api/watch';
import { around, checkOf, incidentOf, Problem, renderPlace, runOf, serve } from '../../testing';

const { default: Today } = await import('./today');
afterEach(cleanup);

const NOTHING: TodayAnswer = {
  firstSteps: null,
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
  releases: [],
  sources: [],
  reviews: [],
  yours: [],
  builds: [],
  lastRun: null,
};

const show = async (answer: unknown) => {
  serve({ ...around(), 'GET workspaces/dues/today': answer });
  await renderPlace(<Today />);
};

test('where nothing needs anybody it says so, and what to do first', async () => {
  await show(NOTHING);
  expect((await screen.findByRole('heading', { level: 1 })).textContent).toBe('All is well');
  expect(screen.getByText(/, workspace Dues: 3 tables, all available$/)).toBeTruthy();
  expect(screen.getByText('No releases yet: production is as the project started.')).toBeTruthy();
  expect(screen.getByRole('link', { name: 'Open a table' }).getAttribute('href')).toBe('/w/dues/tables');
});

const broken: CheckState = checkOf('core.dim_berth/dim_berth_pkey', {
  verdict: 'broken',
  atFault: '12',
  title: 'berth_key tells rows apart',
});
const AT = '2026-01-02T00:00:00Z';
const source = { table: 'landing.berth', age: 183_600, allowed: 93_600, late: true };
const finding: WatchFinding = {
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
/** Each thing that may need somebody: what is read of it, and where it leads. */
const NEEDS: readonly (readonly [
  name: string,
  answer: Partial<TodayAnswer>,
  title: string,
  detail: string,
  to: string,
])[] = [
  [
    'an incident',
    { incidents: [incidentOf(4, { title: 'Dues are missing', severity: 'high', lead: null })] },
    'Incident 4: Dues are missing',
    'high, nobody leads it yet',
    '/w/dues/incidents/4',
  ],
  [
    'a broken check',
    { broken: [broken] },
    'core.dim_berth: berth_key tells rows apart',
    'a check is broken, 12 rows at fault',
    '/w/dues/quality/core.dim_berth/dim_berth_pkey',
  ],
  ['a failed run', { failedRuns: [runOf(7, { state: 'failed' })] }, 'Run 7 failed', 'build by Jonas', '/w/dues/runs/7'],
  [
    'an interrupted run',
    { failedRuns: [runOf(7, { state: 'interrupted', error: 'the server ended' })] },
    'Run 7 was interrupted',
    'build by Jonas: the server ended',
    '/w/dues/runs/7',
  ],
  [
    'a failed file',
    { failedFiles: [{ file: 'x.csv', reason: null, at: AT }] },
    'x.csv failed',
    'it could not be loaded',
    '/w/dues/sources',
  ],
  [
    'a late source',
    { late: [{ table: 'landing.berth', since: AT, allowed: '26 hours' }], sources: [source] },
    'landing.berth is late',
    'newest row 2 d 3 h old, late after 1 d 2 h',
    '/w/dues/sources',
  ],
  [
    'a source that never came',
    { late: [{ table: 'landing.berth', since: null, allowed: '26 hours' }], sources: [{ ...source, age: null }] },
    'landing.berth is late',
    'never brought in',
    '/w/dues/sources',
  ],
  [
    'a drifted source',
    { drifted: ['landing.berth'] },
    'landing.berth has drifted',
    'its columns differ from the declaration',
    '/w/dues/sources',
  ],
  [
    'a server without a connection',
    { toBind: [{ server: 'port', workspaces: ['dues'] }] },
    'port is not bound to a connection',
    'declared in dues',
    '/w/dues/settings/connections',
  ],
  [
    'errors of a file',
    { errors: [7, 9].map((line) => ({ path: 'core/dim_berth.sql', message: `no column x${line}`, line, column: 7 })) },
    'core/dim_berth.sql has 2 errors',
    'line 7: no column x7',
    '/w/dues/tables/core.dim_berth?at=7.7',
  ],
  [
    'errors of a draft',
    {
      errors: [{ path: 'core/dim_berth.sql', message: 'no column x', line: 3, column: 7 }],
      drafts: [{ path: 'core/dim_berth.sql', by: 'Jonas', at: AT }],
    },
    'The draft of core/dim_berth.sql has 1 error',
    'line 3: no column x',
    '/w/dues/tables/core.dim_berth?at=3.7',
  ],
];
test.each(NEEDS)('%s is listed and leads to its place', async (_, answer, title, detail, to) => {
  await show({ ...NOTHING, ...answer });
  const line = within(await screen.findByRole('list', { name: 'What needs you' })).getByRole('link');
  expect(within(line).getByTitle(title)).toBeTruthy();
  expect(within(line).getByTitle(detail)).toBeTruthy();
  expect(decodeURIComponent(line.getAttribute('href')!)).toBe(to);
  expect(screen.getByRole('heading', { level: 1 }).textContent).toBe('One thing needs you');
});

test('what a watch found is listed, and leads to the measure', async () => {
  serve({ ...around(), 'GET workspaces/dues/today': NOTHING, 'GET watches': [finding] });
  await renderPlace(<Today />);
  const line = await screen.findByTitle('rows: 412, expected 690 to 810');
  expect(line.closest('a')!.getAttribute('href')).toBe('/w/dues/quality?table=core.dim_berth&watch=rows');
  expect(screen.getByTitle('core.dim_berth is unusual')).toBeTruthy();
});

test('what an incident is about is listed once, as the incident', async () => {
  const subjects = [
    { kind: 'check' as const, subject: broken.id, table: broken.table },
    { kind: 'source' as const, subject: 'landing.berth', table: 'landing.berth' },
    { kind: 'measure' as const, subject: 'core.dim_berth/rows', table: 'core.dim_berth' },
  ];
  const answer: TodayAnswer = {
    ...NOTHING,
    incidents: [incidentOf(4, { subjects })],
    broken: [broken],
    late: [{ table: 'landing.berth', since: AT, allowed: '26 hours' }],
  };
  serve({ ...around(), 'GET workspaces/dues/today': answer, 'GET watches': [finding] });
  await renderPlace(<Today />);
  expect(within(await screen.findByRole('list', { name: 'What needs you' })).getAllByRole('link')).toHaveLength(1);
});

test('a failing advisory check needs nobody, and is listed below', async () => {
  await show({ ...NOTHING, advisory: [{ ...broken, verdict: 'advisory' }] });
  const line = await screen.findByTitle('core.dim_berth: berth_key tells rows apart');
  expect(line.closest('a')!.getAttribute('href')).toBe('/w/dues/quality/core.dim_berth/dim_berth_pkey');
  expect(screen.getByRole('heading', { level: 1 }).textContent).toBe('All is well');
});

test('a person’s drafts and workspaces say what is left to release', async () => {
  await show({
    ...NOTHING,
    drafts: [{ path: 'core/x.sql', by: 'Jonas', at: AT }],
    yours: [
      { slug: 'berth-dues', name: 'Berth dues', drafts: 2, commits: 1 },
      { slug: 'flags', name: 'Flags', drafts: 0, commits: 0 },
    ],
  });
  const yours = await screen.findByRole('region', { name: 'Yours' });
  expect(
    within(yours)
      .getAllByRole('listitem')
      .map((l) => l.textContent),
  ).toEqual([
    'berth-dues 2 drafts, 1 commit not released',
    'flags nothing left to release',
    expect.stringMatching(/^core\/x\.sqlJonas, .* ago$/),
  ]);
  expect(within(yours).getByRole('link', { name: 'core/x.sql' }).getAttribute('href')).toBe('/w/dues/files/core/x.sql');
});

test('tables of a desk that the person is in are shown by days, others are not', async () => {
  const fact = 'fact_dues';
  serve({
    ...around(),
    'GET workspaces/dues/today': NOTHING,
    'GET workspaces/dues/files': {
      ...(around()['GET workspaces/dues/files'] as object),
      files: {
        'layers.sql': 'create schema landing;\ncreate schema core;\n',
        [`core/${fact}.sql`]: `create table core.${fact} (n int) with (owner = 'dues office');\nselect 1 as n`,
        'core/other.sql': "create table core.other (n int) with (owner = 'fleet desk');\nselect 1 as n",
      },
    },
    'GET receivers': {
      desks: [
        { id: 'd', name: 'dues office', members: ['jonas'], mail: null, webhook: null, hasSecret: false },
        { id: 'e', name: 'fleet desk', members: ['vera'], mail: null, webhook: null, hasSecret: false },
      ],
      people: [],
      unknown: [],
    },
    'GET workspaces/production/quality/days': {
      environment: 'production',
      zone: 'UTC',
      days: ['2026-03-01', '2026-03-02', '2026-03-03'],
      tables: [
        { table: `core.${fact}`, verdicts: ['holds', null, 'broken'] },
        { table: 'core.other', verdicts: ['holds', 'holds', 'holds'] },
      ],
    },
  });
  await renderPlace(<Today />);
  const table = await screen.findByRole('table', { name: 'Your tables, last 21 days' });
  const [, ...shown] = within(table).getAllByRole('row');
  expect(shown.map((r) => within(r).getByRole('rowheader').textContent)).toEqual([`core.${fact}`]);
  expect(
    within(shown[0]!)
      .getAllByRole('img')
      .map((m) => m.getAttribute('aria-label')),
  ).toEqual(['holds', 'broken']);
});

test('a long list is cut, and shows the rest when asked', async () => {
  await show({ ...NOTHING, drifted: Array.from({ length: 15 }, (_, i) => `landing.t${i}`) });
  const list = await screen.findByRole('list', { name: 'What needs you' });
  expect(within(list).getAllByRole('link')).toHaveLength(12);
  expect((await screen.findByRole('heading', { level: 1 })).textContent).toBe('15 things need you');
  await userEvent.click(screen.getByRole('button', { name: 'Show the other 3' }));
  expect(within(list).getAllByRole('link')).toHaveLength(15);
});

const builds = [20_000, 22_000, 21_000, 20_500, 30_000].map((milliseconds, i) => ({
  id: i + 1,
  state: 'succeeded' as const,
  at: AT,
  milliseconds,
}));
const built = (seconds: number, of: object = {}) => ({
  ...runOf(9),
  startedAt: AT,
  finishedAt: new Date(Date.parse(AT) + seconds * 1000).toISOString(),
  steps: [],
  ...of,
});
test.each([
  ['no slower than a tenth', 21.9, '21.9 s, as usual'],
  ['slower', 53.5, '53.5 s, 32.5 s slower than usual'],
  ['faster', 10, '10.0 s, 11.0 s faster than usual'],
])('the last build is held against what is usual: %s', async (_, seconds, words) => {
  await show({ ...NOTHING, builds, lastRun: built(seconds) });
  expect((await screen.findByText(new RegExp(`${words.replaceAll('.', '\\.')}$`))).textContent).toContain(words);
  expect(within(screen.getByRole('list', { name: 'Builds before' })).getAllByRole('link')).toHaveLength(5);
});

test('a build that stopped says what it loaded, and what waits', async () => {
  const step = (table: string, state: 'done' | 'failed' | 'blocked' | 'reused', rowsIn: string | null) => ({
    table,
    state,
    rowsIn,
    milliseconds: 20,
  });
  const steps = [
    step('staging.berth', 'done', '1200'),
    step('core.dim_berth', 'done', '34'),
    step('core.fact_dues', 'failed', null),
    step('mart.dues', 'blocked', null),
    step('core.dim_port', 'reused', null),
  ];
  await show({ ...NOTHING, lastRun: built(3, { state: 'failed', steps }) });
  const aside = await screen.findByRole('complementary', { name: 'What was built' });
  expect(aside.textContent).toContain('2 of 4 tables loaded, 1,234 rows in; core.fact_dues stopped, 1 waits for it');
});

test('sources are held against when they are late, and the newest releases lead to their runs', async () => {
  const releases = [{ id: 15, message: 'Open calls are charged', person: 'Mira', at: AT, runId: 4 }];
  await show({ ...NOTHING, sources: [source, { ...source, table: 'landing.call', age: 720, late: false }], releases });
  const aside = await screen.findByRole('complementary', { name: 'What was built' });
  expect(within(aside).getByRole('link', { name: 'landing.berth' }).closest('li')!.textContent).toMatch(
    /2 d 3 h, late$/,
  );
  expect(within(aside).getByRole('link', { name: 'landing.call' }).closest('li')!.textContent).toMatch(/12 min$/);
  expect(within(aside).getByRole('link', { name: '15' }).getAttribute('href')).toBe('/w/dues/runs/4');
});

test.each([
  ['goes on', { played: 11, of: 30, error: null }, /is being played in the background: day 12 of 30/],
  ['has stopped', { played: 11, of: 30, error: 'no answer' }, /stopped after 11 of 30 days: no answer/],
])('the demo’s past %s', async (_, past, words) => {
  const time = '2026-03-03T04:30:00Z';
  serve({
    ...around(),
    'GET workspaces/dues/today': NOTHING,
    'GET harbour': { day: 41, date: '2026-02-11', time, past },
  });
  await renderPlace(<Today />);
  expect((await screen.findByText(words)).textContent).toMatch(words);
  expect(screen.getByRole('progressbar', { name: 'Days played' }).getAttribute('value')).toBe('11');
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
  expect(within(list).getAllByRole('link')).toHaveLength(5);
  expect(list.textContent).toContain('and 7 more under Messages');
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

describe('the first steps of an empty project', () => {
  const STEPS: FirstSteps = { workspace: null, connected: false, broughtIn: false, defined: false, run: false };
  const steps = () =>
    within(screen.getByRole('region', { name: 'First steps' }))
      .getAllByRole('listitem')
      .map((li) => `${li.getAttribute('aria-current') === 'step' ? '> ' : ''}${li.querySelector('p')!.textContent}`);
  const show = async (of: Partial<FirstSteps>, role: 'viewer' | 'administrator' = 'administrator') => {
    serve({ ...around(role), 'GET workspaces/dues/today': { ...NOTHING, firstSteps: { ...STEPS, ...of } } });
    await renderPlace(<Today />);
    await screen.findByText('Nothing is here yet');
  };
  test('what is done, and what is next', async () => {
    await show({ connected: true, workspace: 'first' });
    expect(steps()).toEqual([
      'Connect a database, done',
      'Open a workspace, done',
      '> Import tables of the database',
      'Write a definition',
      'Run it',
      'Release it',
    ]);
    expect(screen.getByRole('link', { name: 'Do this: Import tables of the database' }).getAttribute('href')).toBe(
      '/w/first/sources',
    );
  });
  test('who may not is told who may', async () => {
    await show({}, 'viewer');
    expect(screen.getByText('Only administrators can add connections; you are a viewer.')).toBeTruthy();
    expect(screen.queryByRole('button', { name: 'Open a workspace …' })).toBeNull();
  });
});
