/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Agreement } from '@ouvrage/api/agreement';
import type { Person } from '@ouvrage/api/people';
import { around, openMenu, renderPlace, serve } from '../testing';

const { Agreements } = await import('./agreements');
afterEach(cleanup);

const CHECK = { kind: 'check', subject: 'core.dim_berth/dim_berth_pkey' } as const;
const show = async (
  agreements: readonly Partial<Agreement>[],
  desks: readonly string[] = [],
  role: Person['role'] = 'editor',
) => {
  const known = around(role);
  const { person } = known['GET session'] as { person: Person };
  const sent = serve({
    ...known,
    'GET workspaces/dues/agreements': agreements.map((a) => ({
      ...CHECK,
      person: person.displayName,
      desk: null,
      at: '2026-11-30T05:00:00Z',
      holds: true,
      ...a,
    })),
    'GET receivers': {
      desks: desks.map((name) => ({
        id: name,
        name,
        members: [person.name],
        mail: null,
        webhook: null,
        hasSecret: false,
      })),
      people: [],
      unknown: [],
    },
    'POST workspaces/dues/agreements': undefined,
    'POST workspaces/dues/agreements/withdraw': undefined,
  });
  await renderPlace(<Agreements {...CHECK} />, { at: '/w/dues/quality', route: '/w/:ws/quality' });
  return sent;
};

test('nobody has agreed: one agrees for oneself', async () => {
  const sent = await show([], [], 'viewer');
  expect(await screen.findByText('agreed by nobody')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Agree' }));
  await waitFor(() => expect(sent.changed.at(-1)?.body).toEqual({ ...CHECK, desk: null }));
});

test('or for a desk of one’s own', async () => {
  const sent = await show([], ['dues office']);
  await screen.findByText('agreed by nobody');
  await waitFor(() => expect(screen.getByRole('button', { name: 'Agree' }).getAttribute('aria-haspopup')).toBe('menu'));
  openMenu('Agree');
  await userEvent.click(screen.getByRole('menuitem', { name: 'for the dues office' }));
  await waitFor(() => expect(sent.changed.at(-1)?.body).toEqual({ ...CHECK, desk: 'dues office' }));
});

test('what one has agreed to is withdrawn', async () => {
  const sent = await show([{ desk: 'dues office' }]);
  await userEvent.click(await screen.findByRole('button', { name: 'Withdraw' }));
  await waitFor(() =>
    expect(sent.changed.at(-1)).toMatchObject({ path: 'workspaces/dues/agreements/withdraw', body: CHECK }),
  );
});

test('an agreement falls when the text changes, and is given again', async () => {
  await show([{ holds: false }, { person: 'Vera Lund' }, { subject: 'core.other/x', person: 'Nobody Else' }]);
  expect(await screen.findByText(/^changed since .* agreed on 2026-11-30/)).toBeTruthy();
  expect(screen.getByText(/^agreed by Vera Lund on 2026-11-30/)).toBeTruthy();
  expect(screen.queryByText(/Nobody Else/)).toBeNull();
  expect(screen.getByRole('button', { name: 'Agree' })).toBeTruthy();
});
