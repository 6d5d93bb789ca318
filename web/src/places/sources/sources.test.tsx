/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import type { SourceSystem } from '@ouvrage/api/source';
import { around, renderPlace, serve } from '../../testing';

const { default: Sources } = await import('./sources');
afterEach(cleanup);

type Row = SourceSystem['tables'][number];
const row = (of: Partial<Row> = {}): Row => ({
  table: 'landing.berth',
  comment: null,
  where: 'production',
  rows: '1200',
  loadedAt: '2026-01-02T00:00:00Z',
  incremental: false,
  pattern: null,
  sameAsProduction: true,
  drift: null,
  comparedAt: null,
  newest: null,
  lateness: null,
  last: {
    state: 'done',
    rowsOut: '1200',
    rowsIn: '1200',
    at: '2026-01-02T00:00:00Z',
    error: null,
    run: 4,
    milliseconds: 300,
  },
  ...of,
});
const show = async (rows: readonly Row[], { role = 'releaser' as Person['role'], answers = {} } = {}) => {
  const system: SourceSystem = {
    server: 'port',
    wrapper: 'postgres_fdw',
    path: 'sources/port.sql',
    connection: { host: 'db.test', port: 5432, database: 'port', user: 'reader' },
    tables: rows,
  };
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/sources': [system],
    'GET harbour': { day: null, date: null },
    'GET deliveries': { files: [], more: false },
    ...answers,
  });
  await renderPlace(<Sources />, { at: '/w/dues/sources' });
  const table = (await screen.findByRole('link', { name: 'landing.berth' })).closest('tr')!;
  return { sent, table };
};

describe('a source table', () => {
  test.each<[string, Partial<Row>, string | RegExp]>([
    ['loaded incrementally', { incremental: true }, 'incremental'],
    ['declared otherwise than in production', { sameAsProduction: false }, 'differs from production'],
    ['whose system has other columns', { drift: { added: [], gone: ['x'], retyped: [] } as never }, 'drifted'],
    [
      'late',
      {
        lateness: {
          late: true,
          since: '2026-01-01T00:00:00Z',
          allowed: '26 hours',
          learnedFrom: null,
          age: 200_000,
          seconds: 129_600,
        },
      },
      'late',
    ],
    ['never brought in', { last: null }, 'never'],
    ['with a comment', { comment: 'Berths of the port.' }, 'Berths of the port.'],
  ])('%s', async (_, of, text) => {
    const { table } = await show([row(of)]);
    expect(within(table).getByText(text)).toBeTruthy();
  });
  test('whose last intake failed says why', async () => {
    await show([
      row({
        last: {
          ...row().last!,
          state: 'failed',
          error: { message: 'relation does not exist', detail: 'ops.berths' } as never,
        },
      }),
    ]);
    expect(await screen.findByText('relation does not exist ops.berths')).toBeTruthy();
  });
  test('shows its columns', async () => {
    const { table } = await show([row()]);
    await userEvent.click(within(table).getByRole('button', { name: 'Columns of landing.berth' }));
    expect((await screen.findByText('numeric(6,1)')).closest('li')!.textContent).toBe('length_m numeric(6,1) ');
  });
  test('is brought in, and the way leads to the run', async () => {
    const { sent, table } = await show([row()], {
      answers: { 'POST workspaces/dues/intake': { id: 5 }, 'POST workspaces/production/intake': { id: 5 } },
    });
    await userEvent.click(within(table).getByRole('button', { name: 'Bring in landing.berth' }));
    expect(sent.changed[0]).toMatchObject({ method: 'POST', body: { tables: ['landing.berth'] } });
    await waitFor(() => expect(screen.getByLabelText('address').textContent).toBe('/w/dues/runs/5'));
  });
  test('cannot be brought in by a viewer, who sees why', async () => {
    const { sent, table } = await show([row()], { role: 'viewer' });
    const button = within(table).getByRole('button', { name: 'Bring in landing.berth' });
    expect(button.getAttribute('aria-disabled')).toBe('true');
    await userEvent.click(button);
    expect(sent.changed).toEqual([]);
  });
});

test('the demo’s clock is moved on where there is one', async () => {
  const { sent } = await show([row()], {
    answers: { 'GET harbour': { day: 3, date: '2026-03-03' }, 'POST harbour/advance': { day: 10, date: '2026-03-10' } },
  });
  await userEvent.click(await screen.findByRole('button', { name: 'A week' }));
  expect(sent.changed).toEqual([{ method: 'POST', path: 'harbour/advance', body: { days: 7 } }]);
  expect(await screen.findByText('It is 2026-03-10 in Saltmere')).toBeTruthy();
});
