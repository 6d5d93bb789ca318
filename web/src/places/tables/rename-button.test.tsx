/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { act, cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import { around, renderPlace, serve, type Sent } from '../../testing';

const { default: Tables } = await import('./tables');
const { store, textTyped } = await import('../../data/store');
afterEach(() => {
  cleanup();
  for (const key of Object.keys(store.getState().interface.typed)) store.dispatch(textTyped({ key, typed: null }));
});

const show = async (table: string, role: Person['role'] = 'editor') => {
  const sent = serve({
    ...around(role),
    'DELETE workspaces/dues/drafts': undefined,
    'POST workspaces/dues/validate': [],
    'GET workspaces/dues/history': [],
    'PUT workspaces/dues/drafts': ({ body }: Sent) => ({
      ...(body as object),
      version: 1,
      by: 'Jonas',
      at: '2026-01-01T00:00:00Z',
    }),
  });
  await renderPlace(<Tables />, { at: `/w/dues/tables/${table}/definition`, route: '/w/:ws/tables/:table/:facet?' });
  await screen.findByRole('complementary', { name: 'Contract' });
  return sent;
};
const ask = async (to: string) => {
  const name = await screen.findByLabelText('New name');
  await userEvent.clear(name);
  await userEvent.type(name, to);
  await userEvent.click(screen.getByRole('button', { name: 'Show all uses' }));
};

describe('a rename', () => {
  test('of a table shows all uses, becomes drafts, and leads to the new address', async () => {
    const sent = await show('staging.berth');
    await userEvent.click(await screen.findByRole('button', { name: 'Rename' }));
    await ask('staging.places');
    expect(await screen.findByText('1 place in 3 files.')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Save as drafts' }));
    await waitFor(() => expect(screen.getByLabelText('address').textContent).toBe('/w/dues/tables/staging.places'));
    expect(sent.changed.filter((s) => s.method === 'PUT').map((s) => s.body)).toEqual([
      { path: 'core/dim_berth.sql', text: expect.stringContaining('from staging.places'), version: 0 },
      { path: 'staging/places.sql', text: 'select berth_code, length_m from landing.berth', version: 0 },
      { path: 'staging/berth.sql', text: null, version: 0 },
    ]);
    // All of it is taken back at once.
    await userEvent.click(await screen.findByRole('button', { name: /Undo/ }));
    await waitFor(() =>
      expect(sent.changed.filter((s) => s.method === 'DELETE').map((s) => s.path)).toEqual(
        ['core/dim_berth.sql', 'staging/places.sql', 'staging/berth.sql'].map(
          (path) => `workspaces/dues/drafts?path=${encodeURIComponent(path)}`,
        ),
      ),
    );
  });
  test('that cannot be made says why', async () => {
    await show('staging.berth');
    await userEvent.click(await screen.findByRole('button', { name: 'Rename' }));
    await ask('core.dim_berth');
    expect((await screen.findByRole('alert')).textContent).toContain('there is a table core.dim_berth already');
  });
  test('waits for what is unsaved', async () => {
    await show('core.dim_berth');
    act(() => void store.dispatch(textTyped({ key: 'dues:staging/berth.sql', typed: { text: 'select 1', base: 0 } })));
    await userEvent.click(await screen.findByRole('button', { name: 'Rename' }));
    expect(await screen.findByText(/unsaved in staging\/berth\.sql/)).toBeTruthy();
  });
  test('is not offered to a viewer', async () => {
    await show('staging.berth', 'viewer');
    expect(screen.queryByRole('button', { name: 'Rename' })).toBeNull();
  });
});
