/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import type { JobEntry, JobStartEntry } from '@ouvrage/api/job';
import { cleanup, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, Problem, renderPlace, serve } from '../../testing';

const { default: Jobs } = await import('./jobs');
afterEach(cleanup);

const startOf = (id: number, of: Partial<JobStartEntry> = {}): JobStartEntry => ({
  ...{ id, cause: 'clock', of: '', state: 'ended', reason: null, attempt: 1, person: null },
  scheduledAt: '2026-01-05T03:30:00Z',
  run: { id: 90 + id, state: 'succeeded', startedAt: '2026-01-05T03:30:00Z', finishedAt: '2026-01-05T03:34:00Z' },
  ...of,
});
const jobOf = (name: string, of: Partial<JobEntry> = {}): JobEntry => ({
  ...{ name, path: `jobs/${name}.sql`, comment: null, words: null, zone: 'UTC', next: [], after: [], onDelivery: [] },
  ...{ needs: 'stale', onlyStale: false, parallel: null, timeLimit: null, retries: 0, parameters: {} },
  ...{ tables: ['core.a'], error: null, paused: null, starts: [] },
  ...of,
});
const MORNING = jobOf('morning', {
  comment: 'What the office reads at seven.',
  words: 'weekdays at 04:30, Paris time',
  zone: 'Europe/Paris',
  next: ['2026-01-06T03:30:00Z', '2026-01-07T03:30:00Z'],
  ...{ tables: ['core.a', 'core.b', 'core.c', 'core.d', 'core.e'], timeLimit: 5400, retries: 2, parallel: 4 },
  parameters: { least: '100' },
  starts: [
    startOf(3, { cause: 'retry', of: 'run 92', attempt: 2 }),
    startOf(2, {
      reason: null,
      run: { id: 92, state: 'failed', startedAt: '2026-01-04T03:30:00Z', finishedAt: '2026-01-04T03:30:30Z' },
    }),
    startOf(1, { cause: 'clock', state: 'skipped', reason: 'the one before was still running', run: null }),
    startOf(0, { cause: 'person', person: 'Mira', state: 'ended', reason: 'nothing was stale', run: null }),
  ],
});
const ALL: readonly JobEntry[] = [
  jobOf('late', {
    after: ['morning'],
    onDelivery: ['landing.rate'],
    starts: [startOf(1, { state: 'refused', reason: 'x is not built', run: null })],
  }),
  MORNING,
  jobOf('paused', { paused: { by: 'Ada', at: '2026-01-01T00:00:00Z' } }),
];
const show = async (
  at: string,
  {
    role = 'releaser',
    jobs = ALL,
    answers = {},
  }: { role?: 'releaser' | 'viewer' | 'editor'; jobs?: unknown; answers?: object } = {},
) => {
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/files': {
      ...(around(role)['GET workspaces/dues/files'] as object),
      files: {
        ...FILES,
        'jobs/morning.sql': 'create publication morning …',
        'jobs/drafted.sql': 'create publication drafted …',
      },
    },
    'GET jobs': jobs,
    ...answers,
  });
  await renderPlace(<Jobs />, { at: `/w/dues/runs/jobs${at}`, route: '/w/:ws/runs/jobs/:job?' });
  return sent;
};
const cells = (row: HTMLElement) =>
  within(row)
    .getAllByRole('cell')
    .map((c) => c.textContent);

describe('jobs', () => {
  test('are listed with what starts them and how the last start went; files that are not released are below', async () => {
    await show('');
    const list = within(await screen.findByRole('complementary', { name: 'Jobs' }));
    expect(screen.getByLabelText('address').textContent).toBe('/w/dues/runs/jobs/late');
    expect(
      list
        .getAllByRole('listitem')
        .map(
          (li) =>
            `${li.querySelector('svg')?.getAttribute('aria-label') ?? ''}|${[...li.querySelectorAll('a > span > span')].map((s) => s.textContent).join('|') || li.textContent}`,
        ),
    ).toEqual([
      'failed|late|after morning; when a file is delivered for landing.rate',
      'ended well|morning|weekdays at 04:30, Paris time',
      'has not run yet|paused|paused by Ada',
      '|Not released yet',
      '|drafted',
    ]);
  });

  test('one is shown with its next starts, its limits and its past', async () => {
    await show('/morning');
    const sheet = await screen.findByRole('region', { name: 'morning' });
    expect(sheet.querySelector('dl')!.textContent).toBe(
      'NextTue 6 Jan 04:30Startsweekdays at 04:30, Paris timeUsual4 min 0 sTablescore.a, core.b, core.c and 2 more, with what is stale of what they needLimitsstopped after 90 min 0 s, tried again 2 times, 4 tables at a time',
    );
    const rows = within(screen.getByRole('table', { name: 'Starts' }))
      .getAllByRole('row')
      .slice(1);
    expect(rows.map(cells).map(([, ...rest]) => rest)).toEqual([
      ['attempt 2, after run 92', '93', 'succeeded', '4 min 0 s'],
      ['the clock', '92', 'failed', '30.0 s'],
      ['the clock', '', 'skipped, the one before was still running', ''],
      ['Mira', '', 'nothing to do, nothing was stale', ''],
    ]);
    const aside = screen.getByRole('complementary', { name: 'The job’s file' });
    expect(aside.textContent).toContain('create publication morning');
    expect(aside.textContent).toMatch(/Tue 6 Jan 04:30Wed 7 Jan 04:30Parametersleast100/);
  });

  test('one is started and paused by who may', async () => {
    const sent = await show('/morning', {
      answers: { 'POST jobs/morning/start': startOf(9), 'PUT jobs/morning/pause': undefined },
    });
    await userEvent.click(await screen.findByRole('button', { name: 'Run now' }));
    await userEvent.click(screen.getByRole('button', { name: 'Pause' }));
    expect(sent.changed.map(({ path, body }) => [path, body])).toEqual([
      ['jobs/morning/start', undefined],
      ['jobs/morning/pause', { paused: true }],
    ]);
  });

  test('one that is paused says by whom, and is let go; a viewer only looks', async () => {
    const sent = await show('/paused', { role: 'viewer' });
    expect(await screen.findByText(/^Paused by Ada since/)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Let it start again' }));
    expect(sent.changed).toEqual([]);
    expect(screen.queryByRole('button', { name: 'New job' })).toBeNull();
  });

  test.each([
    ['there are none', '', [], 'No jobs yet'],
    ['one is unknown', '/no_such', ALL, 'Production has no such job'],
    ['they cannot be read', '', new Problem(503, 'The database does not answer'), 'The database does not answer'],
  ])('it is said where %s', async (_, at, jobs, text) => {
    await show(at, { jobs });
    expect(await screen.findByText(text)).toBeTruthy();
  });

  test('a new one is begun as a draft of the workspace', async () => {
    const sent = await show('/morning', { role: 'editor', answers: { 'PUT workspaces/dues/drafts': { version: 1 } } });
    await userEvent.click(await screen.findByRole('button', { name: 'New job' }));
    await userEvent.type(await screen.findByLabelText(/^Name/), 'nightly');
    await userEvent.click(screen.getByRole('button', { name: 'Create' }));
    expect(sent.changed[0]!.body).toMatchObject({
      path: 'jobs/nightly.sql',
      text: expect.stringMatching(/^create publication nightly\n {2}for tables in schema staging\n {2}with \(at = /),
    });
  });
});
