/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import type { Person } from '@ouvrage/api/people';
import type { KeptCopies } from '@ouvrage/api/release';
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve } from '../../testing';

const { default: Settings } = await import('./settings');
afterEach(cleanup);

const KEPT: KeptCopies = {
  days: 7,
  bytes: 12_400_000,
  releases: [
    {
      id: 4,
      message: 'Dues by tonnage',
      tables: ['core.fact_call', 'mart.vessel_dues'],
      bytes: 12_400_000,
      until: '2026-01-08T05:00:00Z' as never,
    },
  ],
};
const show = async (kept: unknown, role: Person['role'] = 'administrator') => {
  const sent = serve({ ...around(role), 'GET kept-copies': kept, 'PUT kept-copies': null });
  await renderPlace(<Settings />, { at: '/w/dues/settings/copies', route: '/w/:ws/settings/:section?' });
  return sent;
};

test('what is kept is listed by release, with its disk and its end', async () => {
  await show(KEPT);
  const table = await screen.findByRole('table', { name: 'Kept copies' });
  expect(table.textContent).toContain('4 Dues by tonnagecore.fact_call, mart.vessel_dues12 MB');
});

test.each<[string, unknown, string]>([
  ['nothing yet', { days: 7, bytes: 0, releases: [] }, 'No release has kept anything yet.'],
  ['nothing by choice', { days: 0, bytes: 0, releases: [] }, 'No copies are kept: a release drops what it replaces.'],
  ['an error', new Problem(503, 'The warehouse cannot be reached'), 'The warehouse cannot be reached'],
])('%s is said', async (_, kept, said) => {
  await show(kept);
  expect(await screen.findByText(said)).toBeTruthy();
});

test('administrators change for how long, with a word about what goes at once', async () => {
  const sent = await show(KEPT);
  const days = await screen.findByLabelText('Days for which copies are kept');
  await userEvent.clear(days);
  await userEvent.type(days, 'many');
  await userEvent.click(screen.getByRole('button', { name: 'Save' }));
  expect(await screen.findByText('Enter a whole number from 0 to 365')).toBeTruthy();
  await userEvent.clear(days);
  await userEvent.type(days, '3');
  expect(await screen.findByText(/^Copies that are older are dropped at once/)).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Save' }));
  await waitFor(() => expect(sent.changed.map((c) => c.body)).toEqual([{ days: 3 }]));
});

test('others read it', async () => {
  await show(KEPT, 'viewer');
  expect(((await screen.findByLabelText('Days for which copies are kept')) as HTMLInputElement).disabled).toBe(true);
  expect(screen.getByRole('button', { name: 'Save' }).getAttribute('aria-disabled')).toBe('true');
});
