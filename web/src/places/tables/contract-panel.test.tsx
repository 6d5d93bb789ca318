/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { TableState } from '@ouvrage/api/quality';
import { around, checkOf, FILES, renderPlace, serve } from '../../testing';

const { default: Tables } = await import('./tables');
afterEach(cleanup);
beforeEach(() => localStorage.clear());

const state = (of: Partial<TableState>): TableState =>
  ({
    table: 'core.dim_berth',
    where: 'here',
    rows: '22',
    loadedAt: '2026-01-02T00:00:00Z',
    run: 7,
    verdict: 'holds',
    ...of,
  }) as TableState;
const COMMENTED = FILES['core/dim_berth.sql']!.replace(
  'select berth_code',
  "comment on column core.dim_berth.berth_code is 'The harbour’s own code.';\nselect berth_code",
);
const show = async (
  table: string,
  {
    files = {},
    states = [],
    checks = [],
    slug = 'dues',
  }: { files?: object; states?: readonly TableState[]; checks?: readonly object[]; slug?: string } = {},
) => {
  serve({
    ...around('editor', slug),
    [`GET workspaces/${slug}/files`]: {
      ...(around('editor', slug)[`GET workspaces/${slug}/files`] as object),
      files: { ...FILES, 'core/dim_berth.sql': COMMENTED, ...files },
    },
    [`GET workspaces/${slug}/state`]: { tables: states, checks },
  });
  await renderPlace(<Tables />, { at: `/w/${slug}/tables/${table}`, route: '/w/:ws/tables/:table?/:facet?' });
  return screen.findByRole('complementary', { name: 'Contract' });
};
const field = (panel: HTMLElement, name: string) =>
  within(panel).getByText(name, { selector: 'dt' }).nextElementSibling?.textContent;

describe('how contract and query agree is said', () => {
  test.each<[string, string, object, string]>([
    ['they match', 'core.dim_berth', {}, 'matches the query'],
    [
      'columns differ',
      'core.dim_berth',
      { 'core/dim_berth.sql': COMMENTED.replace(', length_m from', ' from') },
      'differs from the query',
    ],
    [
      'the query is wrong',
      'core.dim_berth',
      { 'core/dim_berth.sql': COMMENTED.replace('from staging.berth', 'from staging.brth') },
      'query has errors',
    ],
    ['there is none', 'staging.berth', {}, 'from the query'],
    ['a source has no query', 'landing.berth', {}, 'as declared'],
  ])('%s', async (_, table, files, word) => {
    const panel = await show(table, { files });
    await waitFor(() => expect(panel.textContent).toContain(word));
  });
});

test('a column opens to its description, its checks and where it comes from', async () => {
  const panel = await show('core.dim_berth', {
    checks: [
      checkOf('core.dim_berth/dim_berth_berth_code_not_null', {
        verdict: 'broken',
        atFault: '2',
        columns: ['berth_code'],
      }),
    ],
  });
  await userEvent.click(within(panel).getByRole('button', { name: /^(broken )?berth_code/ }));
  expect(within(panel).getByText('The harbour’s own code.')).toBeTruthy();
  expect(panel.textContent).toContain('2 rows');
  const origin = within(panel).getByRole('link', { name: 'staging.berth.berth_code' });
  expect(origin.getAttribute('href')).toBe('/w/dues/tables/staging.berth');
  await userEvent.click(within(panel).getByRole('button', { name: /length_m/ }));
  expect(within(panel).queryByText('The harbour’s own code.')).toBeNull();
  expect(within(panel).getByText('No description.')).toBeTruthy();
});

describe('the block in the corner says how the table stands', () => {
  test.each<[string, Partial<TableState> | undefined, string, string, string]>([
    ['built here', {}, 'differs, built here', '22', '7'],
    ['production’s', { where: 'production' }, 'the same', '22', '7'],
    [
      'not built',
      { where: 'nowhere', rows: null, run: null, loadedAt: null } as never,
      'differs, not built here',
      '–',
      '',
    ],
    ['unknown', undefined, 'differs, not built here', '–', ''],
  ])('%s', async (_, of, production, rows, run) => {
    const panel = await show('core.dim_berth', { states: of ? [state(of)] : [] });
    expect(field(panel, 'Production')).toBe(production);
    expect(field(panel, 'Rows')).toBe(rows);
    expect(field(panel, 'Grain')).toBe('one row per berth_key');
    expect(field(panel, 'Load')).toBe('merge');
    if (run) expect(within(panel).getByRole('link', { name: /ago$/ }).getAttribute('href')).toBe(`/w/dues/runs/${run}`);
    else expect(field(panel, 'Last load')).toBe('never');
  });
  test('in production it is production', async () => {
    const panel = await show('core.dim_berth', { slug: 'production' });
    expect(field(panel, 'Production')).toBe('is production');
    expect(within(panel).queryByRole('button', { name: 'Edit' })).toBeNull();
  });
});

test('the form takes the place of the list', async () => {
  const panel = await show('core.dim_berth');
  await userEvent.click(await within(panel).findByRole('button', { name: 'Edit' }));
  expect(await within(panel).findByLabelText('Name of a new column')).toBeTruthy();
  await userEvent.click(within(panel).getByRole('button', { name: 'Read' }));
  expect(within(panel).queryByLabelText('Name of a new column')).toBeNull();
});

describe('a description that comes with the values', () => {
  const SOURCE = `${FILES['sources/port.sql']}
comment on column landing.berth.length_m is 'Along the quay.';`;
  test('is shown with where it is written, and can be written here', async () => {
    const panel = await show('core.dim_berth', { files: { 'sources/port.sql': SOURCE } });
    await userEvent.click(await within(panel).findByRole('button', { name: /length_m/ }));
    expect(panel.textContent).toContain('Along the quay. as described at landing.berth.length_m');
    await userEvent.click(within(panel).getByRole('button', { name: 'Write it here' }));
    await waitFor(() =>
      expect(document.querySelector('.cm-content')!.textContent).toContain(
        "comment on column core.dim_berth.length_m is 'Along the quay.'",
      ),
    );
    await waitFor(() => expect(within(panel).queryByRole('button', { name: 'Write it here' })).toBeNull());
  });
  test('is only read in production', async () => {
    const panel = await show('core.dim_berth', { files: { 'sources/port.sql': SOURCE }, slug: 'production' });
    await userEvent.click(await within(panel).findByRole('button', { name: /length_m/ }));
    expect(panel.textContent).toContain('Along the quay.');
    expect(within(panel).queryByRole('button', { name: 'Write it here' })).toBeNull();
  });
});

describe('a sensitive column', () => {
  const SENSITIVE = {
    'sources/port.sql': FILES['sources/port.sql']!.replace(
      'length_m numeric(6,1)',
      "length_m numeric(6,1) options (sensitive 'personal')",
    ),
  };
  test('says so where it is declared, and where its values come to', async () => {
    const panel = await show('core.dim_berth', { files: SENSITIVE });
    await userEvent.click(await within(panel).findByRole('button', { name: /length_m.*personal/ }));
    expect(
      await within(panel).findByText('Sensitive (personal), as landing.berth.length_m is: viewers do not see it.'),
    ).toBeTruthy();
  });
  test('is none where nobody declares it', async () => {
    const panel = await show('core.dim_berth');
    expect(within(panel).queryByText('personal')).toBeNull();
  });
});

describe('an owner', () => {
  test('is carried from what the columns come from', async () => {
    const staging =
      "create table staging.berth (berth_code text, length_m numeric(6,1)) with (load = rebuild, owner = 'harbour office');\nselect berth_code, length_m from landing.berth;";
    const panel = await show('core.dim_berth', { files: { 'staging/berth.sql': staging } });
    await waitFor(() => expect(field(panel, 'Owner')).toBe('harbour office'));
    expect(within(panel).getByRole('link', { name: 'harbour office' }).getAttribute('href')).toBe(
      '/w/dues/tables/staging.berth',
    );
  });
});
