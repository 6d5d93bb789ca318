/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { CheckState } from '@ouvrage/api/quality';
import { around, checkOf, renderPlace, serve } from '../../testing';

const { default: Quality } = await import('./quality');
afterEach(cleanup);

const show = async (checks: readonly CheckState[]) => {
  serve({ ...around(), 'GET workspaces/dues/state': { tables: [], checks }, 'GET workspaces/dues/check-history': [] });
  await renderPlace(<Quality />, { at: '/w/dues/quality', route: '/w/:ws/quality/*' });
};

test('a project without checks says where they are written', async () => {
  await show([]);
  expect(await screen.findByText('The project checks nothing yet')).toBeTruthy();
});

test('tables with broken checks come first, the worst check first within each, and a verdict narrows them', async () => {
  await show([
    checkOf('core.a/one', { table: 'core.a', title: 'a one', verdict: 'holds', atFault: '0' }),
    checkOf('core.b/two', { table: 'core.b', title: 'b two', verdict: 'holds', atFault: '0' }),
    checkOf('core.b/three', { table: 'core.b', title: 'b three', verdict: 'broken', atFault: '1200', advisory: false }),
    checkOf('core.c/four', { table: 'core.c', title: 'c four', verdict: 'advisory', advisory: true, tolerate: '5 %' }),
    checkOf('core.c/five', { table: 'core.c', title: 'c five', verdict: 'not run' }),
  ]);
  const list = await screen.findByRole('complementary', { name: 'Checks' });
  expect(
    within(list)
      .getAllByRole('listitem')
      .map((i) => i.textContent),
  ).toEqual(['brokenb three1,200', 'holdsb two0', 'advisoryc fouradvisorytolerates 5 %–', 'not runc five–', 'holdsa one0']);
  await userEvent.click(within(screen.getByRole('group', { name: 'Only checks that' })).getByRole('button', { name: /^advisory/ }));
  expect(within(list).getAllByRole('listitem')).toHaveLength(1);
  await userEvent.click(within(list).getByRole('button', { name: /c four/ }));
  await waitFor(() => expect(screen.getByLabelText('address').textContent).toContain('/w/dues/quality/core.c'));
});
