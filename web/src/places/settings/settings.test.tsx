/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import { around, renderPlace, serve, type Sent } from '../../testing';

const { default: Settings } = await import('./settings');
afterEach(cleanup);

const entry = (id: number, action: string, detail: object | null = null) => ({
  id: String(id),
  at: '2026-01-02T10:00:00Z',
  person: 'mira',
  action,
  subject: 'dues',
  detail,
});
const show = async (section: string, role: Person['role'], answers: object = {}) => {
  const sent = serve({
    ...around(role),
    'GET connections': [],
    'GET tokens': [],
    'GET audit': ({ path }: Sent) =>
      path.includes('before=')
        ? [entry(1, 'workspace opened')]
        : path.includes('text=x')
          ? []
          : Array.from({ length: 100 }, (_, i) => entry(200 - i, 'commit', { files: ['a.sql', 'b.sql'], none: null })),
    ...answers,
  });
  await renderPlace(<Settings />, { at: `/w/dues/settings/${section}`, route: '/w/:ws/settings/:section?' });
  return sent;
};

describe('pages of settings are those of one’s role', () => {
  test.each<[Person['role'], boolean]>([
    ['viewer', false],
    ['editor', false],
    ['administrator', true],
  ])('%s', async (role, isAdministrator) => {
    await show('', role);
    const pages = within(await screen.findByRole('navigation', { name: /settings/i }))
      .getAllByRole('link')
      .map((l) => l.textContent);
    expect(pages.some((p) => /log/i.test(p ?? ''))).toBe(isAdministrator);
  });
  test('a page of another role, or none, says so', async () => {
    await show('nothing', 'viewer');
    expect(await screen.findByText('This page does not exist, or your role cannot see it')).toBeTruthy();
  });
});

test('the log is searched and read on, with what belongs to each entry', async () => {
  const sent = await show('log', 'administrator');
  await waitFor(() => expect(screen.getAllByText('commit').length).toBe(100));
  expect(screen.getAllByText('files a.sql, b.sql').length).toBe(100);
  expect(screen.queryByText(/none/)).toBeNull();
  await userEvent.click(screen.getByRole('button', { name: 'Older entries' }));
  expect(await screen.findByText('workspace opened')).toBeTruthy();
  expect(sent.read.at(-1)?.path).toBe('audit?text=&before=101');
  await userEvent.type(screen.getByRole('searchbox'), 'x');
  expect(await screen.findByText('No log entries match “x”')).toBeTruthy();
});
