/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import type { ReleaseDetail } from '@ouvrage/api/release';
import { cleanup, screen, within } from '@testing-library/react';
import { around, Problem, renderPlace, serve } from '../../testing';

const { default: Releases } = await import('./releases');
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
const show = async (detail: unknown, at = '/w/production/releases?release=3') => {
  serve({
    ...around('viewer', 'production'),
    'GET releases/3': detail,
    'GET releases/3/file': {
      before: 'select 1',
      after: 'select 1,\n2',
      authors: ['Ola Brandt', 'Jonas Reet, Ola Brandt'],
    },
  });
  await renderPlace(<Releases />, { at });
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
