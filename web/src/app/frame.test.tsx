/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { act, cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import { around, openMenu, Problem, renderPlace, runOf, serve } from '../testing';

const { Frame } = await import('./frame');
const { store, textTyped, themeChosen } = await import('../data/store');
afterEach(cleanup);
beforeEach(() => {
  localStorage.clear();
  for (const key of Object.keys(store.getState().interface.typed)) store.dispatch(textTyped({ key, typed: null }));
  store.dispatch(themeChosen('paper'));
});

const show = async (role: Person['role'] = 'editor', answers: object = {}) => {
  const sent = serve({
    ...around(role),
    'GET runs': [runOf(7)],
    'POST sign-out': undefined,
    ...answers,
  });
  await renderPlace(<Frame />);
  await screen.findByRole('button', { name: 'Workspace: Dues 0 drafts' });
  return sent;
};
const address = () => screen.getByLabelText('address').textContent;

describe('the finder', () => {
  test.each<[string, string, string, string]>([
    ['a table', 'dim_b', 'core.dim_berth', '/w/dues/tables/core.dim_berth'],
    ['a column', 'dim_berth.length', 'core.dim_berth.length_m', '/w/dues/tables/core.dim_berth'],
    ['a check', 'has its number', 'each row has its number', '/w/dues/quality/core.dim_berth/key_map_is_complete'],
    ['a run', 'run 7', 'Run 7, build', '/w/dues/runs/7'],
    ['a file', 'layers.sql', 'layers.sql', '/w/dues/files/layers.sql'],
    ['a place', 'go to lin', 'Go to Lineage', '/w/dues/lineage'],
  ])('leads to %s', async (_, text, label, to) => {
    await show();
    fireEvent.keyDown(document.body, { key: 'k', ctrlKey: true });
    const dialog = await screen.findByRole('dialog');
    await userEvent.type(within(dialog).getByRole('combobox'), text);
    await userEvent.click(await within(dialog).findByText(label));
    await waitFor(() => expect(address()).toBe(to));
    expect(screen.queryByRole('dialog')).toBeNull();
  });
  test('leads to what a text says, at its place', async () => {
    await show();
    await userEvent.click(screen.getByRole('button', { name: /Find anything/ }));
    const dialog = await screen.findByRole('dialog');
    await userEvent.click(within(dialog).getByRole('radio', { name: 'SQL' }));
    await userEvent.type(within(dialog).getByRole('combobox'), 'from landing.berth');
    expect(within(dialog).queryByText('landing.berth')).toBeNull();
    await userEvent.click(await within(dialog).findByText('staging/berth.sql'));
    await waitFor(() => expect(address()).toBe('/w/dues/tables/staging.berth?at=1.29'));
  });
  test('says so where nothing has that name', async () => {
    await show();
    await userEvent.click(screen.getByRole('button', { name: /Find anything/ }));
    await userEvent.type(await screen.findByRole('combobox'), 'tugboat');
    expect(await screen.findByText(/No match/)).toBeTruthy();
  });
  test('changes the theme', async () => {
    await show();
    await userEvent.click(screen.getByRole('button', { name: /Find anything/ }));
    await userEvent.click(await screen.findByText('Use the blueprint (dark) theme'));
    expect(store.getState().interface.theme).toBe('blueprint');
  });
});

test('a question mark lists the keys, but not where text is typed', async () => {
  await show();
  const field = document.body.appendChild(document.createElement('input'));
  fireEvent.keyDown(field, { key: '?', bubbles: true });
  expect(screen.queryByRole('dialog', { name: 'Keys' })).toBeNull();
  fireEvent.keyDown(document.body, { key: '?' });
  expect(await screen.findByRole('dialog', { name: 'Keys' })).toBeTruthy();
});

describe('workspaces', () => {
  test('another one is chosen from the menu', async () => {
    await show();
    openMenu(/Dues/);
    await userEvent.click(await screen.findByRole('menuitem', { name: /^Production/ }));
    await waitFor(() => expect(address()).toMatch(/^\/w\/production\//));
  });
  test('a new one is opened by its name', async () => {
    const sent = await show('editor', { 'POST workspaces': { slug: 'berth-dues', name: 'Berth dues' } });
    openMenu(/Dues/);
    await userEvent.click(await screen.findByRole('menuitem', { name: /Open a workspace/ }));
    const open = await screen.findByRole('button', { name: 'Open' });
    expect((open as HTMLButtonElement).disabled).toBe(true);
    await userEvent.type(screen.getByLabelText('What is it for?'), '  Berth dues ');
    await userEvent.click(open);
    await waitFor(() => expect(sent.changed.map((s) => s.body)).toEqual([{ name: 'Berth dues' }]));
    await waitFor(() => expect(address()).toMatch(/^\/w\/berth-dues\//));
  });
  test('a name that is taken is said, and stays', async () => {
    await show('editor', { 'POST workspaces': new Problem(409, 'There is a workspace of this name') });
    openMenu(/Dues/);
    await userEvent.click(await screen.findByRole('menuitem', { name: /Open a workspace/ }));
    await userEvent.type(await screen.findByLabelText('What is it for?'), 'Dues{Enter}');
    expect(await screen.findByText('There is a workspace of this name')).toBeTruthy();
    expect((screen.getByLabelText('What is it for?') as HTMLInputElement).value).toBe('Dues');
  });
  test('a viewer opens none', async () => {
    await show('viewer');
    openMenu(/Dues/);
    await screen.findByRole('menuitem', { name: /^Production/ });
    expect(screen.queryByRole('menuitem', { name: /Open a workspace/ })).toBeNull();
  });
});

describe('signing out', () => {
  const leave = async () => {
    openMenu(/Jonas/);
    await userEvent.click(await screen.findByRole('menuitem', { name: /Sign out/ }));
  };
  test('forgets what was typed, after a question', async () => {
    const sent = await show();
    act(() => void store.dispatch(textTyped({ key: 'dues:x.sql', typed: { text: 'select 1', base: 0 } })));
    window.confirm = () => false;
    await leave();
    expect(sent.changed).toEqual([]);
    window.confirm = () => true;
    await leave();
    await waitFor(() => expect(sent.changed.map((s) => s.path)).toEqual(['sign-out']));
    await waitFor(() => expect(store.getState().interface.typed).toEqual({}));
  });
  test('asks nothing where nothing is unsaved', async () => {
    const sent = await show();
    window.confirm = () => {
      throw new Error('asked');
    };
    await leave();
    await waitFor(() => expect(sent.changed.map((s) => s.path)).toEqual(['sign-out']));
  });
});

test('what was typed before comes back to the same person, and is said', async () => {
  const { keepUnsaved } = await import('../data/unsaved');
  keepUnsaved(
    { person: 'jonas', project: 'p' },
    { 'dues:staging/berth.sql': { text: 'select 2', base: 0 } },
    localStorage,
  );
  await show();
  expect(await screen.findByText('Unsaved text of 1 file restored')).toBeTruthy();
  expect(store.getState().interface.typed['dues:staging/berth.sql']?.text).toBe('select 2');
});

describe('messages that were not read', () => {
  test('are counted beside Today', async () => {
    await show('viewer', { 'GET messages': { unread: 12, notices: [] } });
    expect((await screen.findByRole('link', { name: 'Today 12 unread' })).textContent).toBe('Today12 unread');
  });
  test('are no word where there are none, or nobody answers', async () => {
    await show('viewer', { 'GET messages': { unread: 0, notices: [] } });
    expect(screen.getByRole('link', { name: 'Today' })).toBeTruthy();
    cleanup();
    await show('viewer', { 'GET messages': new Problem(503, 'The server is busy', '') });
    expect(screen.getByRole('link', { name: 'Today' })).toBeTruthy();
  });
});
