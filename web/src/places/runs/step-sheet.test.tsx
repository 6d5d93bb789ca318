/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { StepDetail, StepEntry } from '@ouvrage/api/run';
import { around, checkOf, Problem, renderPlace, serve } from '../../testing';

const { StepSheet } = await import('./step-sheet');
afterEach(cleanup);

const step = (of: Partial<StepEntry> = {}): StepEntry =>
  ({
    id: 4,
    table: 'core.dim_berth',
    kind: 'load',
    state: 'done',
    waitsFor: [],
    rowsIn: '22',
    rowsOut: null,
    counts: null,
    note: null,
    error: null,
    checks: [],
    startedAt: null,
    finishedAt: null,
    ...of,
  }) as StepEntry;
const detail = (of: Partial<StepDetail> = {}): StepDetail =>
  ({ ...step(), kinds: null, statements: [], results: [], ...of }) as StepDetail;
const show = async (of: Partial<StepEntry>, answer: unknown) => {
  serve({
    ...around(),
    'GET workspaces/dues/state': {
      tables: [],
      checks: [checkOf('core.dim_berth/dim_berth_pkey', { title: 'one row a berth' })],
    },
    'GET runs/7/steps/4': answer,
  });
  await renderPlace(<StepSheet run={7} step={step(of)} />);
};

test('an error is said with its place, its line and what to do', async () => {
  await show(
    {
      state: 'failed',
      error: {
        message: 'invalid input',
        path: 'staging/berth.sql',
        line: 1,
        column: 8,
        detail: 'value "x"',
        hint: 'cast it',
        rows: { columns: ['berth_code'], rows: [['NQ-2']] },
      } as never,
    },
    detail(),
  );
  const alert = await screen.findByRole('alert');
  for (const text of [
    'invalid input',
    'staging/berth.sql',
    'line 1, column 8',
    'value "x"',
    'cast it',
    'select berth_code, length_m from landing.berth',
  ])
    expect(alert.textContent).toContain(text);
  expect(within(screen.getByRole('grid')).getByText('NQ-2')).toBeTruthy();
});

test('what the load did is counted, and rows of a kind are shown', async () => {
  await show(
    { counts: { inserted: 3, 'nothing changed': 0 } as never, note: 'changed in place' },
    detail({ kinds: { inserted: { columns: ['berth_code'], rows: [['GW-1']] } } }),
  );
  const did = await screen.findByRole('region', { name: 'What the load did' });
  expect(did.textContent).toContain('changed in place');
  expect(within(did).queryByRole('button', { name: 'nothing changed' })).toBeNull();
  await userEvent.click(within(did).getByRole('button', { name: 'inserted' }));
  expect(within(did).getByText('GW-1')).toBeTruthy();
  await userEvent.click(within(did).getByRole('button', { name: 'inserted' }));
  expect(within(did).queryByText('GW-1')).toBeNull();
});

test('checks have their words, with the rows at fault', async () => {
  const rows = { columns: ['berth_code'], rows: [['TB-9']] };
  await show(
    {},
    detail({
      results: [
        { id: 'core.dim_berth/dim_berth_pkey', verdict: 'broken', atFault: '2', total: '22', sql: 'select 1', rows },
        {
          id: 'core.dim_berth/gone_since',
          verdict: 'holds',
          atFault: '0',
          total: null,
          sql: 'select 1',
          rows: null,
        },
      ],
    }),
  );
  expect(await screen.findByRole('link', { name: 'one row a berth' })).toBeTruthy();
  expect(screen.getByRole('link', { name: 'gone since' })).toBeTruthy();
  expect(screen.getByText('2 rows')).toBeTruthy();
  expect(screen.getByText('TB-9')).toBeTruthy();
});

test('the SQL that ran is shown with times and rows', async () => {
  await show(
    {},
    detail({
      statements: [
        { kind: 'session', sql: 'set x = 1', milliseconds: null, rows: null },
        { kind: 'build', sql: 'insert into t select 1', milliseconds: 12, rows: 3 },
      ] as never,
    }),
  );
  const sql = (await screen.findByLabelText('SQL that made core.dim_berth')).textContent;
  expect(sql).toContain('-- session: with the next');
  expect(sql).toContain('-- build: 12 ms, 3 rows');
  expect(sql).toContain('insert into t select 1;');
  expect(screen.getByText('2 statements, 12 ms, in one transaction')).toBeTruthy();
});

describe('while it is not there', () => {
  test('it says so', async () => {
    await show({}, new Problem(404, 'There is no such step'));
    expect(await screen.findByText('There is no such step')).toBeTruthy();
  });
});
