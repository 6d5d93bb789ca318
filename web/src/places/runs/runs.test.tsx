/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import type { RunDetail, StepEntry } from '@ouvrage/api/run';
import { around, Problem, renderPlace, runOf, serve } from '../../testing';

const { default: Runs } = await import('./runs');
afterEach(cleanup);

const step = (id: number, of: Partial<StepEntry> = {}): StepEntry => ({
  id,
  kind: 'load',
  table: 'core.dim_berth',
  state: 'done',
  waitsFor: [],
  rowsOut: null,
  rowsIn: '1500',
  counts: null,
  note: null,
  error: null,
  startedAt: '2026-01-02T00:00:01Z',
  finishedAt: '2026-01-02T00:00:03Z',
  checks: [],
  ...of,
});

const show = async (
  run: Partial<RunDetail>,
  { role = 'editor' as Person['role'], at = '/w/dues/runs/7', answers = {} } = {},
) => {
  const detail = { ...runOf(7), steps: [step(1)], ...run };
  const sent = serve({
    ...around(role),
    'GET runs': [runOf(8, { tables: ['core.a', 'core.b'] }), detail],
    'GET runs/7': detail,
    ...answers,
  });
  await renderPlace(<Runs />, { at, route: '/w/:ws/runs/:run?/:step?' });
  return sent;
};

describe('a run', () => {
  test('as a timeline of steps with their rows, checks and time', async () => {
    const checks = [
      { id: 'a', verdict: 'holds' as const, atFault: '0', total: '9' },
      { id: 'b', verdict: 'advisory' as const, atFault: '2', total: '9' },
    ];
    await show({
      steps: [
        step(1, { checks }),
        step(2, {
          table: 'core.waits',
          state: 'waiting',
          waitsFor: ['core.dim_berth'],
          startedAt: null,
          finishedAt: null,
          rowsIn: null,
        }),
      ],
      parameters: { region: 'south' },
    });
    expect(await screen.findByRole('heading', { name: 'Run 7: build in dues' })).toBeTruthy();
    expect(screen.getByText(/region = south/)).toBeTruthy();
    const rows = screen.getAllByRole('row').slice(1);
    expect(rows[0]!.textContent).toContain('core.dim_berth');
    expect(within(rows[0]!).getByText('1,500')).toBeTruthy();
    expect(within(rows[0]!).getByText('2.0 s')).toBeTruthy();
    expect(within(rows[0]!).getByRole('img', { name: 'advisory' })).toBeTruthy();
    expect(within(rows[1]!).getByText('waits for core.dim_berth')).toBeTruthy();
  });
  const buttons: readonly (readonly [
    state: RunDetail['state'],
    kind: RunDetail['kind'],
    role: Person['role'],
    environment: string,
    stop: boolean,
    goOn: boolean,
  ])[] = [
    ['running', 'build', 'editor', 'dues', true, false],
    ['queued', 'build', 'editor', 'dues', true, false],
    ['failed', 'build', 'editor', 'dues', false, true],
    ['stopped', 'intake', 'editor', 'dues', false, true],
    ['interrupted', 'release', 'releaser', 'production', false, false],
    ['succeeded', 'build', 'editor', 'dues', false, false],
    ['running', 'build', 'viewer', 'dues', false, false],
    ['failed', 'build', 'editor', 'production', false, false],
    ['failed', 'build', 'releaser', 'production', false, true],
  ];
  test.each(buttons)(
    'that is %s, a %s, seen by a %s in %s: can be stopped %s, continued %s',
    async (state, kind, role, environment, stop, goOn) => {
      await show({ state, kind, environment }, { role });
      await screen.findByRole('heading', { level: 1 });
      expect([
        screen.queryByRole('button', { name: 'Stop' }) !== null,
        screen.queryByRole('button', { name: 'Continue from here' }) !== null,
      ]).toEqual([stop, goOn]);
    },
  );
  test('is stopped, and one that failed is continued as a new one', async () => {
    const sent = await show({ state: 'running' }, { answers: { 'POST runs/7/stop': undefined } });
    await userEvent.click(await screen.findByRole('button', { name: 'Stop' }));
    expect(sent.changed).toEqual([{ method: 'POST', path: 'runs/7/stop', body: undefined }]);
    cleanup();
    await show(
      { state: 'failed', error: 'The disk is full' },
      { answers: { 'POST runs/7/continue': { id: 9 }, 'GET runs/9': { ...runOf(9), steps: [] } } },
    );
    expect(await screen.findByText('The disk is full')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Continue from here' }));
    expect((await screen.findByRole('heading', { name: 'Run 9: build in dues' })).textContent).toBeTruthy();
  });
  test('that cannot be read is an error with a way to try again', async () => {
    await show({}, { answers: { 'GET runs/7': new Problem(404, 'Run 7 does not exist') } });
    expect(await screen.findByText('Run 7 does not exist')).toBeTruthy();
  });
});

test('runs are listed newest first, each with what it ran', async () => {
  await show({});
  const list = await screen.findByRole('complementary', { name: 'Runs' });
  expect(
    within(list)
      .getAllByRole('link', { name: /^\d/ })
      .map((l) => l.textContent),
  ).toEqual([expect.stringContaining('8. build 2 tables'), expect.stringContaining('7. build all tables')]);
});

test('all tables are run by who may', async () => {
  const sent = await show({}, { answers: { 'POST workspaces/dues/runs': { id: 7 } } });
  await userEvent.click(await screen.findByRole('button', { name: 'Run all tables' }));
  expect(sent.changed[0]).toMatchObject({
    path: 'workspaces/dues/runs',
    body: { tables: [], upstream: false, downstream: false },
  });
  cleanup();
  await show({}, { role: 'viewer' });
  await screen.findByRole('complementary', { name: 'Runs' });
  expect(screen.queryByRole('button', { name: 'Run all tables' })).toBeNull();
});

test('where nothing has run it says what a run is', async () => {
  serve({ ...around(), 'GET runs': [] });
  await renderPlace(<Runs />, { at: '/w/dues/runs', route: '/w/:ws/runs/:run?/:step?' });
  expect((await screen.findAllByText(/No runs here yet/)).length).toBe(2);
});
