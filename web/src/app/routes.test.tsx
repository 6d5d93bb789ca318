/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { act, cleanup, render, screen, waitFor } from '@testing-library/react';
import { Provider } from 'react-redux';
import { RouterProvider } from 'react-router';
import type { Person } from '@ouvrage/api/people';
import { around, Problem, serve } from '../testing';

const { router } = await import('./routes');
const { api } = await import('../data/api');
const { store, themeChosen } = await import('../data/store');
afterEach(cleanup);
beforeEach(() => {
  store.dispatch(api.util.resetApiState());
});

const WORKSPACE = {
  slug: 'dues',
  name: 'Dues',
  owner: 'Jonas',
  createdAt: '2026-01-01T00:00:00Z',
  prefix: 'w_dues',
  drafts: 0,
  changedAt: '2026-01-01T00:00:00Z' as const,
};
const show = async (address: string, role: Person['role'] | undefined, answers: object = {}) => {
  serve({
    ...around(role ?? 'viewer'),
    'GET session': role ? around(role)['GET session'] : { person: null, csrf: 'x' },
    'GET workspaces/production/files': around(role, 'production')['GET workspaces/production/files'],
    'GET workspaces/production/state': { tables: [], checks: [] },
    'GET workspaces/dues/today': new Problem(503, 'The database does not answer'),
    'GET workspaces/production/today': new Problem(503, 'The database does not answer'),
    ...answers,
  });
  await act(() => router.navigate(address));
  render(
    <Provider store={store}>
      <RouterProvider router={router} />
    </Provider>,
  );
};
const path = () => router.state.location.pathname;

describe('the address without a place leads', () => {
  test.each<[string, Person['role'], readonly object[], string]>([
    ['to one’s own workspace', 'editor', [{ ...WORKSPACE, slug: 'first', owner: 'Mira' }, WORKSPACE], '/w/dues/today'],
    ['to the first workspace, where none is one’s own', 'releaser', [{ ...WORKSPACE, owner: 'Ada' }], '/w/dues/today'],
    ['to production, where there is none', 'editor', [], '/w/production/today'],
    ['to production, for a viewer', 'viewer', [WORKSPACE], '/w/production/today'],
  ])('%s', async (_, role, workspaces, expected) => {
    await show('/', role, { 'GET workspaces': workspaces });
    await waitFor(() => expect(path()).toBe(expected));
  });
  test('to Today, in a workspace', async () => {
    await show('/w/dues', 'editor');
    await waitFor(() => expect(path()).toBe('/w/dues/today'));
  });
});

test('who is not signed in signs in, whatever the address', async () => {
  await show('/w/dues/quality', undefined);
  expect(await screen.findByLabelText(/^Password/)).toBeTruthy();
  expect(path()).toBe('/w/dues/quality');
});

describe('what is not there says so', () => {
  test.each([['/nowhere'], ['/w/dues/nowhere']])('%s', async (address) => {
    await show(address, 'editor');
    expect(await screen.findByText('Page not found')).toBeTruthy();
  });
  test('a workspace that is gone leads to production', async () => {
    await show('/w/gone/today', 'editor', {
      'GET workspaces/gone/files': new Problem(404, 'The workspace gone does not exist'),
      'GET workspaces/gone/state': new Problem(404, 'The workspace gone does not exist'),
    });
    expect(await screen.findByText('The workspace gone does not exist')).toBeTruthy();
    expect((screen.getByRole('link', { name: 'Go to production' }) as HTMLAnchorElement).pathname).toBe(
      '/w/production/today',
    );
  });
  test('a server that does not answer', async () => {
    await show('/', 'editor', { 'GET session': new Problem(503, 'The database does not answer') });
    expect(await screen.findByText('The database does not answer')).toBeTruthy();
    expect(screen.getByRole('button', { name: 'Try again' })).toBeTruthy();
  });
});

test('the theme is the page’s, and remembered', async () => {
  await show('/nowhere', 'editor');
  await screen.findByText('Page not found');
  act(() => void store.dispatch(themeChosen('blueprint')));
  await waitFor(() => expect(document.documentElement.dataset['theme']).toBe('blueprint'));
  expect(localStorage.getItem('theme')).toBe('blueprint');
  act(() => void store.dispatch(themeChosen('paper')));
});
