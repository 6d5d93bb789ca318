/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve } from '../../testing';

const { Connections } = await import('./connections');
afterEach(cleanup);

const PORT = {
  id: '1',
  name: 'Port office',
  host: 'db.test',
  port: 5432,
  database: 'port',
  user: 'reader',
  tls: 'encrypted',
  bound: [{ server: 'port', environment: 'production' }],
};

test('an administrator sees connections, binds a server and deletes one after a question', async () => {
  const sent = serve({
    ...around('administrator'),
    'GET connections': [PORT],
    'PUT connections/binding': undefined,
    'DELETE connections/1': undefined,
  });
  await renderPlace(<Connections />);
  const row = (await screen.findByText('db.test:5432/port')).closest('tr')!;
  expect(within(row).getByText('encrypted')).toBeTruthy();
  await userEvent.selectOptions(screen.getByRole('combobox', { name: /port.*workspaces/i }), 'Port office');
  expect(sent.changed).toEqual([
    {
      method: 'PUT',
      path: 'connections/binding',
      body: { server: 'port', environment: 'workspaces', connection: '1' },
    },
  ]);
  await userEvent.click(screen.getByRole('button', { name: 'Delete Port office' }));
  const dialog = await screen.findByRole('alertdialog');
  expect(dialog.textContent).toContain('port can no longer be loaded.');
  await userEvent.click(within(dialog).getByRole('button', { name: 'Delete the connection' }));
  expect(sent.changed.at(-1)).toMatchObject({ method: 'DELETE', path: 'connections/1' });
});

test('others see why they may not', async () => {
  serve({ ...around('editor'), 'GET connections': [PORT] });
  await renderPlace(<Connections />);
  const change = await screen.findByRole('button', { name: 'Change Port office' });
  expect(change.getAttribute('aria-disabled') ?? String((change as HTMLButtonElement).disabled)).toBe('true');
});

test.each<[string, unknown, string]>([
  ['none', [], 'No connections yet'],
  [
    'an error',
    new Problem(503, 'The database does not answer', 'Try again in a moment.'),
    'The database does not answer',
  ],
])('%s', async (_, answer, text) => {
  serve({ ...around('administrator'), 'GET connections': answer });
  await renderPlace(<Connections />);
  expect(await screen.findByText(text)).toBeTruthy();
});
