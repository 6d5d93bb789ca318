/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import type { Person } from '@ouvrage/api/people';
import type { WorkspaceEntry } from '@ouvrage/api/project';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve, type Sent } from '../../testing';

const { Workspaces } = await import('./workspaces');
afterEach(cleanup);

const NOW = new Date().toISOString() as WorkspaceEntry['changedAt'];
const entry = (slug: string, of: Partial<WorkspaceEntry> = {}): WorkspaceEntry => ({
  slug,
  name: slug,
  owner: 'Jonas',
  isShared: true,
  sharedWith: [],
  createdAt: NOW,
  prefix: `w_${slug}`,
  drafts: 0,
  changedAt: NOW,
  ...of,
});
const show = async (workspaces: unknown, role: Person['role'] = 'administrator', answers: object = {}) => {
  const sent = serve({ ...around(role), 'GET workspaces': workspaces, ...answers });
  await renderPlace(<Workspaces />);
  return sent;
};

test('those without a commit for 30 days come first, and say so', async () => {
  await show([entry('fresh'), entry('old', { changedAt: '2020-01-01T00:00:00Z' })]);
  const rows = (await screen.findAllByRole('row')).slice(1);
  expect(rows.map((r) => within(r).getByRole('link').textContent)).toEqual(['old', 'fresh']);
  expect(within(rows[0]!).getByText('forgotten')).toBeTruthy();
  expect(within(rows[1]!).queryByText('forgotten')).toBeNull();
  expect(screen.getByText(/^1 workspace without a commit for 30 days/)).toBeTruthy();
});

test('who edits it is shown, and changed', async () => {
  const people = [
    { name: 'mira', displayName: 'Mira', isIn: true },
    { name: 'ada', displayName: 'Ada', isIn: false },
  ];
  const sent = await show(
    [entry('dues', { sharedWith: ['Mira'] }), entry('open', { sharedWith: 'all' })],
    'administrator',
    {
      'GET workspaces/dues/sharing': { all: false, people },
      'PUT workspaces/dues/sharing': { all: false, people },
    },
  );
  expect(within(await screen.findByRole('row', { name: /^dues/ })).getByText('Mira')).toBeTruthy();
  expect(within(screen.getByRole('row', { name: /^open/ })).getByText('everybody who edits')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Share dues' }));
  const dialog = within(await screen.findByRole('dialog'));
  const ticked = () => dialog.getAllByRole<HTMLInputElement>('checkbox').map((box) => box.checked);
  await waitFor(() => expect(ticked()).toEqual([false, true, false]));
  await userEvent.click(dialog.getByLabelText(/^Mira/));
  await userEvent.click(dialog.getByLabelText(/^Ada/));
  await userEvent.click(dialog.getByRole('button', { name: 'Save' }));
  await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull());
  expect(sent.changed.map((s) => s.body)).toEqual([{ all: false, names: ['ada'] }]);
});

test('one that others own is not deleted by an editor', async () => {
  const sent = await show([entry('dues', { owner: 'Somebody else' })], 'editor');
  const button = await screen.findByRole('button', { name: 'Delete dues' });
  expect(button.getAttribute('aria-disabled')).toBe('true');
  await userEvent.click(button);
  expect(screen.queryByRole('alertdialog')).toBeNull();
  expect(sent.changed).toEqual([]);
});

test('what would be lost is named, and consented to', async () => {
  const lost = { code: 'needs-consent', drafts: ['core/x.sql'], commits: [{ id: 'c'.repeat(40), message: 'Dues' }] };
  const sent = await show([entry('berths'), entry('dues')], 'administrator', {
    'POST workspaces/berths/deletion': ({ body }: Sent) =>
      (body as { consents: string[] }).consents.length === 2 ? undefined : new Problem(409, 'Not released', '', lost),
  });
  await userEvent.click(await screen.findByRole('button', { name: 'Delete berths' }));
  const dialog = within(await screen.findByRole('alertdialog'));
  await userEvent.click(dialog.getByRole('button', { name: 'Delete' }));
  expect((await dialog.findAllByRole('listitem')).map((l) => l.textContent)).toEqual([
    'ccccccc Dues',
    'the draft of core/x.sql',
  ]);
  await userEvent.click(dialog.getByRole('button', { name: 'Delete it with these' }));
  await waitFor(() => expect(screen.queryByRole('alertdialog')).toBeNull());
  expect(sent.changed.map((s) => s.body)).toEqual([{ consents: [] }, { consents: ['core/x.sql', 'c'.repeat(40)] }]);
});

test.each<[string, unknown, string]>([
  ['none', [], 'No workspaces yet'],
  ['an error', new Problem(500, 'The server had an error'), 'The server had an error'],
])('%s', async (_, workspaces, said) => {
  await show(workspaces);
  expect(await screen.findByText(said)).toBeTruthy();
});
