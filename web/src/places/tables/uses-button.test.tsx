/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, renderPlace, serve } from '../../testing';

const { default: Tables } = await import('./tables');
afterEach(cleanup);

const show = async (table: string) => {
  serve({ ...around('viewer'), 'GET workspaces/dues/history': [] });
  await renderPlace(<Tables />, { at: `/w/dues/tables/${table}/definition`, route: '/w/:ws/tables/:table/:facet?' });
  await screen.findByRole('complementary', { name: 'Contract' });
};

test('all uses of a table are listed, and each leads to its place', async () => {
  await show('staging.berth');
  await userEvent.click(await screen.findByRole('button', { name: 'Uses' }));
  const dialog = await screen.findByRole('dialog', { name: 'Uses of staging.berth' });
  expect(await within(dialog).findByText('1 place in 1 file, as they are saved.')).toBeTruthy();
  await userEvent.click(await within(dialog).findByText(/^core.dim_berth.sql:/));
  await waitFor(() =>
    expect(screen.getByLabelText('address').textContent).toMatch(/^\/w\/dues\/tables\/core.dim_berth\?at=/),
  );
  expect(screen.queryByRole('dialog')).toBeNull();
});

test('those of a column are found from its line of the contract', async () => {
  await show('staging.berth');
  await userEvent.click(await screen.findByRole('button', { name: /length_m/ }));
  const uses = await screen.findAllByRole('button', { name: 'Uses' });
  await userEvent.click(uses.at(-1)!);
  const dialog = await screen.findByRole('dialog', { name: 'Uses of staging.berth.length_m' });
  expect(await within(dialog).findByText(/places? in \d files?, as they are saved/)).toBeTruthy();
});
