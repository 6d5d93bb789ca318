/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen } from '@testing-library/react';
import { around, checkOf, FILES, Problem, renderPlace, serve } from '../testing';
import type { ProjectView } from './project';

const { placeAddress, useProject } = await import('./project');
afterEach(cleanup);

let seen: ProjectView;
function Look() {
  seen = useProject();
  return <p>read</p>;
}
const show = async (answers: object = {}) => {
  serve({ ...around(), ...answers });
  await renderPlace(<Look />);
  await screen.findByText('read');
  return seen;
};

test('drafts are over files; deleted ones are gone', async () => {
  const draft = (path: string, text: string | null) => ({
    path,
    text,
    version: 2,
    by: 'Jonas',
    at: '2026-01-01T00:00:00Z',
  });
  const files = around()['GET workspaces/dues/files'] as object;
  const view = await show({
    'GET workspaces/dues/files': {
      ...files,
      drafts: [
        draft('staging/berth.sql', 'select 1 as one'),
        draft('core/dim_berth.sql', null),
        draft('adhoc/new.sql', 'select 2 as two'),
      ],
    },
  });
  expect(view.textOf('staging/berth.sql')).toBe('select 1 as one');
  expect(view.textOf('core/dim_berth.sql')).toBeUndefined();
  expect(view.tables.has('core.dim_berth')).toBe(false);
  expect(view.summary.adhoc.map((a) => a.name)).toEqual(['new']);
  expect(view.drafts.get('staging/berth.sql')?.version).toBe(2);
});

test('checks have what was last found of each; others were not run', async () => {
  const id = 'core.dim_berth/dim_berth_berth_code_not_null';
  const { checks } = await show({
    'GET workspaces/dues/state': { tables: [], checks: [checkOf(id, { verdict: 'broken', atFault: '3' })] },
  });
  expect(checks.find((c) => c.id === id)).toMatchObject({ verdict: 'broken', atFault: '3' });
  expect(checks.filter((c) => c.id !== id).every((c) => c.verdict === 'not run')).toBe(true);
});

describe('a place of a file is looked at', () => {
  test.each<[string, { path: string; line?: number; column?: number }, string]>([
    ['on the bench of its one table', { path: 'staging/berth.sql' }, '/w/dues/tables/staging.berth'],
    [
      'at its line and column',
      { path: 'staging/berth.sql', line: 2, column: 5 },
      '/w/dues/tables/staging.berth?at=2.5',
    ],
    ['as a file where it makes none', { path: 'layers.sql', line: 1 }, '/w/dues/files/layers.sql?at=1.1'],
  ])('%s', async (_, place, expected) => {
    expect(placeAddress(await show(), place)).toBe(expected);
  });
});

test('a table has the position of its layer, also when it is gone', async () => {
  const { layerPosition, paths } = await show();
  expect(['landing.berth', 'staging.berth', 'core.gone', 'nowhere.x'].map(layerPosition)).toEqual([0, 1, 2, -1]);
  expect(paths).toEqual(Object.keys(FILES).sort());
});

test('a project that cannot be read says why', async () => {
  serve({ ...around(), 'GET workspaces/dues/files': new Problem(503, 'The database does not answer') });
  await renderPlace(<Look />);
  expect((await screen.findByRole('alert')).textContent).toBe('The database does not answer');
});
