/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import type { Look } from '@ouvrage/api/rows';
import { around, FILES, Problem, renderPlace, serve } from '../../testing';

const { focusOn } = await import('../lineage/focus');
const { LookBar } = await import('./look-bar');
const { TableIndex } = await import('./table-index');
afterEach(cleanup);

const show = async (role: Person['role'] = 'editor', answers: object = {}) => {
  const drafts = [
    {
      path: 'core/dim_berth.sql',
      text: FILES['core/dim_berth.sql']!,
      version: 1,
      by: 'Jonas',
      at: '2026-01-01T00:00:00Z',
      isNew: false,
    },
  ];
  const files = {
    ...(around()['GET workspaces/dues/files'] as object),
    files: { ...FILES, 'core/broken.sql': 'select nothing from staging.berth' },
    drafts,
  };
  const tables = [
    { table: 'staging.berth', where: 'production', rows: '3', loadedAt: null, run: null, verdict: 'broken' },
  ];
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/files': files,
    'GET workspaces/dues/state': { tables, checks: [] },
    ...answers,
  });
  await renderPlace(<TableIndex current="staging.berth" />);
  await screen.findByRole('listbox');
  return sent;
};
const options = () => screen.getAllByRole('option').map((o) => o.textContent);

describe('the index of tables and files', () => {
  test('by layer, with drafts, errors and verdicts', async () => {
    await show();
    expect(options()).toEqual([
      'berthnot run',
      'berthbroken',
      'brokenerrornot run',
      'dim_berthdraftnot run',
      'layers.sql',
      'port.sql',
    ]);
  });
  test('is narrowed as one types, and says where nothing is called that', async () => {
    await show();
    await userEvent.type(screen.getByLabelText('Filter tables'), 'DIM');
    expect(options()).toEqual(['dim_berthdraftnot run']);
    await userEvent.type(screen.getByLabelText('Filter tables'), 'x');
    expect(screen.getByText('No match.')).toBeTruthy();
  });
  test('arrows lead to the next table', async () => {
    await show();
    screen.getByRole('listbox').focus();
    await userEvent.keyboard('{ArrowDown}');
    await waitFor(() => expect(screen.getByLabelText('address').textContent).toBe('/w/dues/tables/core.broken'));
  });
  test('a viewer begins nothing', async () => {
    await show('viewer');
    expect(screen.queryByRole('button', { name: 'New definition' })).toBeNull();
  });
});

describe('a new definition', () => {
  const begin = async (answers: object = {}) => {
    const sent = await show('editor', {
      'PUT workspaces/dues/drafts': { path: 'x', text: 'x', version: 1, by: 'Jonas', at: '', isNew: true },
      ...answers,
    });
    await userEvent.click(screen.getByRole('button', { name: 'New definition' }));
    await screen.findByRole('dialog');
    return sent;
  };
  test.each([
    ['a view', 'staging', 'x', 'staging/x.sql', '/w/dues/tables/staging.x'],
    ['a table, rebuilt at each run', 'core', 'x', 'core/x.sql', '/w/dues/tables/core.x'],
    ['a check: rows that should not exist', undefined, 'x', 'checks/x.sql', '/w/dues/files/checks/x.sql'],
    ['an ad hoc query', undefined, 'x', 'adhoc/x.sql', '/w/dues/files/adhoc/x.sql'],
  ])('%s in %s', async (kind, layer, name, path, to) => {
    const sent = await begin();
    await userEvent.selectOptions(screen.getByLabelText('It makes'), kind);
    if (layer) await userEvent.selectOptions(screen.getByLabelText('Layer'), layer);
    await userEvent.type(screen.getByLabelText(/^Name/), name);
    await userEvent.click(screen.getByRole('button', { name: 'Create' }));
    await waitFor(() => expect(decodeURIComponent(screen.getByLabelText('address').textContent!)).toBe(to));
    expect(sent.changed[0]).toMatchObject({ method: 'PUT', body: { path, version: 0 } });
  });
  test.each([
    ['Total', 'Lower-case letters, digits and underscores; begin with a letter.'],
    ['berth', 'staging/berth.sql exists already.'],
  ])('%s is refused where it is typed', async (name, said) => {
    await begin();
    await userEvent.type(screen.getByLabelText(/^Name/), name);
    expect(screen.getByText(said)).toBeTruthy();
    expect((screen.getByRole('button', { name: 'Create' }) as HTMLButtonElement).disabled).toBe(true);
  });
  test('that the server refuses is reported in the dialog, and nothing typed is lost', async () => {
    await begin({ 'PUT workspaces/dues/drafts': new Problem(409, 'Somebody was faster') });
    await userEvent.type(screen.getByLabelText(/^Name/), 'x');
    await userEvent.click(screen.getByRole('button', { name: 'Create' }));
    expect(await screen.findByText('Somebody was faster')).toBeTruthy();
    expect((screen.getByLabelText(/^Name/) as HTMLInputElement).value).toBe('x');
  });
});

describe('filters and columns of rows', () => {
  const COLUMNS = [{ name: 'a' }, { name: 'b' }];
  const LOOK: Look = { filters: [{ column: 'a', op: '=', value: '7' }], show: [], sort: [] };
  const bar = async (look: Look = LOOK) => {
    serve(around());
    const looks: Look[] = [];
    await renderPlace(
      <LookBar
        table="core.t"
        columns={COLUMNS}
        look={look}
        onLook={(l) => void looks.push(l)}
        rows={[['x\ty', null]]}
        shown={COLUMNS}
      />,
    );
    await screen.findByRole('button', { name: 'Filter' });
    return looks;
  };
  test('a filter is added and removed', async () => {
    const looks = await bar();
    await userEvent.click(screen.getByRole('button', { name: 'Filter' }));
    await userEvent.selectOptions(screen.getByLabelText('Column'), 'b');
    await userEvent.selectOptions(screen.getByLabelText('Comparison'), 'is null');
    expect(screen.queryByLabelText('Value')).toBeNull();
    await userEvent.click(screen.getByRole('button', { name: 'Add' }));
    await userEvent.click(screen.getByRole('button', { name: 'Remove the filter a = 7' }));
    expect(looks.map((l) => l.filters)).toEqual([[...LOOK.filters, { column: 'b', op: 'is null' }], []]);
  });
  test.each<[string, readonly string[], string, readonly string[]]>([
    ['one is left out', [], 'a', ['b']],
    ['all are shown again', ['b'], 'a', []],
    ['the last one stays', ['b'], 'b', []],
  ])('columns: %s', async (_, before, toggled, after) => {
    const looks = await bar({ ...LOOK, show: before });
    await userEvent.click(screen.getByRole('button', { name: before.length ? '1 of 2 columns' : 'Columns' }));
    await userEvent.click(screen.getByRole('checkbox', { name: toggled }));
    expect(looks.at(-1)!.show).toEqual(after);
  });
  test('rows are copied with their header, tabs in values made blanks', async () => {
    await bar();
    const user = userEvent.setup();
    await user.click(screen.getByRole('button', { name: 'Copy' }));
    expect(await navigator.clipboard.readText()).toBe('a\tb\nx y\t');
    expect(await screen.findByText('1 row copied')).toBeTruthy();
  });
});

test.each<[string, string | undefined, number, number, readonly string[]]>([
  ['all', undefined, 1, 1, ['a', 'b', 'c', 'd']],
  ['one step down', 'b', 0, 1, ['b', 'c']],
  ['all the way up', 'd', 9, 0, ['a', 'b', 'c', 'd']],
  ['what is not there', 'x', 1, 1, ['a', 'b', 'c', 'd']],
])('lineage is narrowed to %s', (_, focus, up, down, names) => {
  const tables = [
    { fullName: 'a', reads: [] },
    { fullName: 'b', reads: ['a'] },
    { fullName: 'c', reads: ['b'] },
    { fullName: 'd', reads: ['c'] },
  ] as never;
  const shown = focusOn(tables, focus, up, down);
  expect(shown.tables.map((t) => t.fullName)).toEqual(names);
  expect(shown.edges.every(([from, to]) => names.includes(from) && names.includes(to))).toBe(true);
});
