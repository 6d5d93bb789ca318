/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import type { Person } from '@ouvrage/api/people';
import { cleanup, screen } from '@testing-library/react';
import { around, renderPlace, serve } from '../testing';

const { useDraftReason, useRunReason } = await import('./use-draft-reason');
afterEach(cleanup);

function Reasons() {
  return (
    <>
      <output aria-label="draft">{useDraftReason() ?? 'may'}</output>
      <output aria-label="run">{useRunReason() ?? 'may'}</output>
    </>
  );
}

test.each<[Person['role'], string, string | null, RegExp, RegExp]>([
  ['editor', 'dues', null, /^may$/, /^may$/],
  ['editor', 'dues', 'Jonas', /^Dues is not shared with you: ask Jonas/, /^Dues is not shared/],
  ['viewer', 'dues', 'Jonas', /^Only editors can change the project/, /^Only editors can run tables/],
  ['editor', 'production', null, /^Production changes only through releases/, /^Only releasers can run in production/],
  ['releaser', 'production', null, /^Production changes only through releases/, /^may$/],
])('a %s in %s, which is kept by %s', async (role, slug, keptBy, draft, run) => {
  const answers = around(role, slug);
  const files = `GET workspaces/${slug}/files`;
  serve({ ...answers, [files]: { ...(answers[files] as object), keptBy } });
  await renderPlace(<Reasons />, { at: `/w/${slug}/x` });
  expect((await screen.findByLabelText('draft')).textContent).toMatch(draft);
  expect(screen.getByLabelText('run').textContent).toMatch(run);
});
