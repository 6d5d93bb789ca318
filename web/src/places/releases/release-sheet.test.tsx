/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import type { Person } from '@ouvrage/api/people';
import type { ReleaseDetail } from '@ouvrage/api/release';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve } from '../../testing';

const { default: Releases } = await import('./releases');
const { releasesWords, withdrawnBy } = await import('./way-back');
afterEach(cleanup);

const AT = '2026-01-01T00:00:00Z';
const DETAIL: ReleaseDetail = {
  id: 3,
  commit: 'abcdef0123',
  workspace: 'dues',
  message: 'Dues by tonnage',
  person: 'Mira',
  tables: ['core.a'],
  runId: 4,
  at: AT,
  review: null,
  withdraws: [],
  canGoBack: true,
  files: [
    { path: 'core/a.sql', kind: 'changed' },
    { path: 'core/b.sql', kind: 'deleted' },
  ],
  loads: [
    { table: 'core.a', rows: '1204', counts: { added: 3, changed: 0 } },
    { table: 'core.c', rows: null, counts: null },
  ],
  checks: { broken: 0, advisory: 1, 'not run': 0, holds: 12 },
};
type Shown = { readonly role?: Person['role']; readonly [route: string]: unknown };
const show = async (detail: unknown, { role = 'viewer', ...answers }: Shown = {}) => {
  const sent = serve({
    ...around(role, 'production'),
    'GET releases': [],
    'GET releases/3': detail,
    'GET releases/3/file': {
      before: 'select 1',
      after: 'select 1,\n2',
      authors: ['Ola Brandt', 'Jonas Reet, Ola Brandt'],
    },
    ...answers,
  });
  await renderPlace(<Releases />, { at: '/w/production/releases?release=3' });
  return sent;
};
const did = async () => (await screen.findByRole('complementary', { name: 'What it did' })).textContent;

test('a release says what changed, who wrote it, and what its run did', async () => {
  await show(DETAIL);
  expect(await did()).toContain('core.a1,204 rows, 3 added');
  expect(await did()).toContain('core.cno rows counted');
  expect(await did()).toContain('13 checks: 1 advisory, 12 held');
  expect(await did()).toContain('It was released before there were reviews.');
  expect(await screen.findByText('OB Ola Brandt, JR+OB Jonas Reet, Ola Brandt')).toBeTruthy();
  const files = within(screen.getByRole('complementary', { name: 'Release' })).getAllByRole('link');
  expect(files.map((f) => f.textContent)).toEqual(['core/a.sqlchanged', 'core/b.sqldeleted', 'All releases']);
});

test.each<[string, Partial<NonNullable<ReleaseDetail['review']>>, string]>([
  ['an approval', { verdicts: [{ person: 'Ola', word: 'approved', text: 'Read.', at: AT }] }, 'Ola approved it'],
  ['none', {}, 'Nobody had to approve it.'],
  [
    'an override',
    { override: { person: 'Ada', text: 'Urgent.', missing: ['one approval'] } },
    'Ada released it without one approval: Urgent.',
  ],
  ['consents', { consents: ['core.old'] }, 'Dropped with consent: core.old.'],
])('its review: %s', async (_, of, said) => {
  await show({ ...DETAIL, review: { authors: ['Jonas'], verdicts: [], consents: [], override: null, ...of } });
  expect(await did()).toContain(said);
});

test('one that does not exist is said', async () => {
  await show(new Problem(404, 'The release 3 does not exist'));
  expect(await screen.findByText('The release 3 does not exist')).toBeTruthy();
});

const entry = (id: number, withdraws: readonly number[] = []) => ({
  ...DETAIL,
  id,
  message: `Release ${id}`,
  withdraws,
});

test('going back says what it withdraws, and opens a workspace', async () => {
  const sent = await show(DETAIL, {
    role: 'editor',
    'GET releases': [entry(4), entry(3), entry(2)],
    'POST releases/3/way-back': { slug: 'back-to-before-release-3' },
  });
  await userEvent.click(await screen.findByRole('button', { name: 'Go back to before it …' }));
  const dialog = within(await screen.findByRole('dialog'));
  const list = within(dialog.getByRole('list', { name: 'Releases that it withdraws' }));
  expect(list.getAllByRole('listitem').map((l) => l.textContent)).toEqual(['4Release 4Mira', '3Release 3Mira']);
  await userEvent.click(dialog.getByRole('button', { name: 'Open the workspace' }));
  await waitFor(() => expect(sent.changed).toHaveLength(1));
  await waitFor(() =>
    expect(screen.getByLabelText('address').textContent).toBe('/w/back-to-before-release-3/releases'),
  );
});

test('restoring says what comes back before a workspace is opened for it', async () => {
  const sent = await show(DETAIL, {
    role: 'editor',
    'GET releases': [entry(3)],
    'GET releases/3/restore': {
      releases: [3],
      tables: [{ table: 'core.a', mark: 'lost', why: 'no copy of its rows is left', rows: null, bytes: null }],
    },
    'POST releases/3/way-back': { slug: 'restore-from-before-release-3' },
  });
  await userEvent.click(await screen.findByRole('button', { name: 'Go back to before it …' }));
  await userEvent.click(await screen.findByRole('radio', { name: /^Restore the kept copies/ }));
  const list = await screen.findByRole('list', { name: 'Tables that come back' });
  expect(list.textContent).toBe('core.a lostno copy of its rows is left');
  await userEvent.click(screen.getByRole('button', { name: 'Open the workspace' }));
  await waitFor(() => expect(sent.changed.map((c) => c.body)).toEqual([{ restores: true }]));
});

test.each<[string, Person['role'], Partial<ReleaseDetail>, unknown, RegExp]>([
  ['a viewer', 'viewer', {}, [], /^Only editors can go back/],
  ['the first release', 'editor', { canGoBack: false }, [], /^It is the first/],
])('%s cannot go back', async (_, role, of, releases, reason) => {
  await show({ ...DETAIL, ...of }, { role, 'GET releases': releases });
  const button = await screen.findByRole('button', { name: 'Go back to before it …' });
  expect(button.getAttribute('aria-disabled')).toBe('true');
  await userEvent.hover(button);
  expect((await screen.findAllByText(reason)).length).toBeGreaterThan(0);
});

test('one that was withdrawn says by which, and one that withdrew what', async () => {
  await show({ ...DETAIL, withdraws: [1, 2] }, { 'GET releases': [entry(5, [3]), entry(3, [1, 2])] });
  const way = within(await screen.findByRole('region', { name: 'Way back' }));
  expect(await way.findByRole('link', { name: 'release 5' })).toBeTruthy();
  expect(way.getByText('It withdrew releases 1 and 2.')).toBeTruthy();
  expect(way.queryByRole('button')).toBeNull();
});

test('what withdrew and was withdrawn counts for nothing', () => {
  expect([...withdrawnBy([entry(3, [2]), entry(2), entry(1)])]).toEqual([[2, 3]]);
  expect([...withdrawnBy([entry(4, [3]), entry(3, [2]), entry(2)])]).toEqual([[3, 4]]);
});

test.each<[readonly number[], string]>([
  [[4], 'release 4'],
  [[4, 5], 'releases 4 and 5'],
  [[4, 5, 6], 'releases 4 to 6'],
  [[4, 6, 7], 'releases 4, 6 and 7'],
])('%j are %s', (ids, words) => expect(releasesWords(ids)).toBe(words));
