/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ExampleOutcome, ExampleState } from '@ouvrage/api/example';
import type { Person } from '@ouvrage/api/people';
import { around, FILES, openMenu, renderPlace, serve, type Sent } from '../../../testing';
import { exampleWords } from '../../../shared/example-words';

const { default: Tables } = await import('../tables');
const { asExpected, inOrder, partWords } = await import('./use-example');
const { store, textTyped } = await import('../../../data/store');
afterEach(cleanup);
beforeEach(() => {
  for (const key of Object.keys(store.getState().interface.typed)) store.dispatch(textTyped({ key, typed: null }));
});

const FOLDER = 'examples/staging.berth/two berths';
const EXAMPLE: Readonly<Record<string, string>> = {
  [`${FOLDER}/input.landing.berth.csv`]: 'berth_code,length_m\nNQ-1,180\nNQ-2,90\n',
  [`${FOLDER}/result.csv`]: 'berth_code,length_m\nNQ-1,180\nNQ-2,95\n',
};
const DIFFERS: ExampleOutcome = {
  verdict: 'differs',
  columns: ['berth_code', 'length_m'],
  rows: [
    { kind: 'same', expected: ['NQ-1', '180'], actual: ['NQ-1', '180'], cells: [] },
    { kind: 'differs', expected: ['NQ-2', '95'], actual: ['NQ-2', '90'], cells: [1] },
    { kind: 'missing', expected: ['NQ-3', null], actual: null, cells: [] },
    { kind: 'extra', expected: null, actual: ['NQ-4', ''], cells: [] },
  ],
  error: null,
  milliseconds: 12,
};
const stateOf = (state: Partial<ExampleState>): ExampleState => ({
  table: 'staging.berth',
  name: 'two berths',
  verdict: 'not run',
  at: null,
  outcome: null,
  ...state,
});

const show = async (
  state: Partial<ExampleState> | undefined,
  { role = 'editor' as Person['role'], slug = 'dues', files = EXAMPLE, answers = {}, facet = 'examples' } = {},
) => {
  const known = around(role, slug);
  const sent = serve({
    ...known,
    [`GET workspaces/${slug}/files`]: {
      ...(known[`GET workspaces/${slug}/files`] as object),
      files: { ...FILES, ...files },
    },
    [`GET workspaces/${slug}/examples`]: state ? [stateOf(state)] : [],
    [`PUT workspaces/${slug}/drafts`]: ({ body }: Sent) => ({
      ...(body as object),
      version: 1,
      by: 'Jonas',
      at: '2026-01-01T00:00:00Z',
      isNew: false,
    }),
    [`GET workspaces/${slug}/history`]: [],
    ...answers,
  });
  await renderPlace(<Tables />, {
    at: `/w/${slug}/tables/staging.berth/${facet}`,
    route: '/w/:ws/tables/:table?/:facet?',
  });
  return sent;
};
const saved = (sent: { readonly changed: readonly Sent[] }) =>
  sent.changed.filter((s) => s.method === 'PUT').map(({ body }) => body as { path: string; text: string | null });

test('inputs and rows to expect are grids; what was made is compared by cell', async () => {
  await show({ verdict: 'differs', outcome: DIFFERS, at: '2026-11-30T05:00:00Z' as never });
  const sheet = await screen.findByRole('region', { name: 'two berths' });
  const input = within(sheet).getByRole('table', { name: 'Input landing.berth' });
  expect(within(input).getByLabelText<HTMLInputElement>('berth_code of row 2').value).toBe('NQ-2');
  expect(within(sheet).getByRole('table', { name: 'Rows to expect' })).toBeTruthy();
  expect(sheet.textContent).toContain('1 row differs, 1 row missing, 1 row more than expected, 2026-11-30');
  const result = within(sheet).getByRole('region', { name: 'Result' });
  const lines = within(result).getAllByRole('row').slice(1);
  expect(lines.map((r) => [...r.children].map((c) => c.textContent))).toEqual([
    ['differs', 'NQ-2', '90expected 95'],
    ['missing', 'NQ-3', 'null'],
    ['not expected', 'NQ-4', 'empty'],
    ['as expected', 'NQ-1', '180'],
  ]);
});

test('what was made can be expected, which is a draft', async () => {
  const sent = await show({ verdict: 'differs', outcome: DIFFERS });
  await userEvent.click(await screen.findByRole('button', { name: 'Expect this result' }));
  await waitFor(() =>
    expect(saved(sent)).toMatchObject([
      { path: `${FOLDER}/result.csv`, text: 'berth_code,length_m\nNQ-1,180\nNQ-2,90\nNQ-4,""\n' },
    ]),
  );
});

test('a cell is changed and saved; a row and a column are added', async () => {
  const sent = await show({ verdict: 'holds' });
  const result = await screen.findByRole('region', { name: 'Rows to expect' });
  const cell = within(result).getByLabelText('length_m of row 2');
  await userEvent.clear(cell);
  await userEvent.type(cell, '90');
  await userEvent.click(within(result).getByRole('button', { name: 'Add a row' }));
  fireEvent.keyDown(within(result).getByRole('button', { name: 'Remove a column' }), { key: 'Enter' });
  await userEvent.click(screen.getByRole('menuitem', { name: 'berth_code' }));
  await userEvent.click(within(result).getByRole('button', { name: 'Save draft' }));
  await waitFor(() =>
    expect(saved(sent)).toMatchObject([{ path: `${FOLDER}/result.csv`, text: 'length_m\n180\n90\n""\n' }]),
  );
});

test('what cannot be, is said at its file', async () => {
  await show({ verdict: 'errors' }, { files: { ...EXAMPLE, [`${FOLDER}/result.csv`]: 'berth_cod\nNQ-1\n' } });
  const result = await screen.findByRole('region', { name: 'Rows to expect' });
  await waitFor(() =>
    expect(result.textContent).toContain('line 1: staging.berth has no column berth_cod (did you mean berth_code?)'),
  );
  const alert = screen.getAllByRole('alert').find((a) => a.textContent?.includes('result.csv line 1'));
  expect(alert).toBeTruthy();
});

test('a load that failed says where', async () => {
  const error = { message: 'division by zero', hint: 'Divide by nullif.', path: 'staging/berth.sql', line: 3, load: 2 };
  await show({ verdict: 'failed', outcome: { ...DIFFERS, verdict: 'failed', columns: [], rows: [], error } });
  const alert = await screen.findByRole('alert');
  expect(alert.textContent).toBe('Load 2: division by zero staging/berth.sql line 3Divide by nullif.');
  expect(within(alert).getByRole('link').getAttribute('href')).toBe('/w/dues/tables/staging.berth?at=3');
});

test('examples run by a press; parameters are added', async () => {
  const sent = await show(
    { verdict: 'not run' },
    { answers: { 'POST workspaces/dues/examples/runs': [stateOf({ verdict: 'holds' })] } },
  );
  await userEvent.click(await screen.findByRole('button', { name: 'Run' }));
  await waitFor(() =>
    expect(sent.changed.find((s) => s.method === 'POST')?.body).toEqual({ table: 'staging.berth', name: 'two berths' }),
  );
  openMenu('More');
  await userEvent.click(screen.getByRole('menuitem', { name: 'Add: Time and parameters' }));
  await waitFor(() =>
    expect(saved(sent)).toMatchObject([{ path: `${FOLDER}/params.csv`, text: 'now\n2000-01-01 00:00:00+00\n' }]),
  );
});

test('an example is deleted after a question', async () => {
  const sent = await show({ verdict: 'holds' });
  await screen.findByRole('button', { name: 'More' });
  openMenu('More');
  await userEvent.click(screen.getByRole('menuitem', { name: 'Delete the example' }));
  await userEvent.click(screen.getByRole('button', { name: 'Delete example' }));
  await waitFor(() => expect(saved(sent).map((s) => s.text)).toEqual([null, null]));
});

test('one is begun from rows: what was found and made up is shown before it is saved', async () => {
  const files = [
    { path: 'examples/staging.berth/short ones/input.landing.berth.csv', text: 'berth_code\nNQ-1\n' },
    { path: 'examples/staging.berth/short ones/result.csv', text: 'berth_code\nNQ-1\n' },
  ];
  const sent = await show(undefined, {
    files: {},
    answers: { 'POST workspaces/dues/examples/begin': { files, notes: ['Values of landing.berth.name are made up.'] } },
  });
  await userEvent.click(await screen.findByRole('button', { name: 'New example' }));
  const dialog = screen.getByRole('dialog');
  await userEvent.type(within(dialog).getByLabelText(/What the example shows/), 'short ones');
  await userEvent.click(within(dialog).getByRole('button', { name: 'Next' }));
  const list = await within(dialog).findByRole('list', { name: 'Files of the example' });
  expect([...list.children].map((c) => c.textContent)).toEqual(['input.landing.berth.csv1 row', 'result.csv1 row']);
  expect(dialog.textContent).toContain('Values of landing.berth.name are made up.');
  expect(dialog.textContent).toContain('once committed they stay in its history');
  await userEvent.click(within(dialog).getByRole('button', { name: 'Save as drafts' }));
  await waitFor(() => expect(saved(sent).map((s) => s.path)).toEqual(files.map((f) => f.path)));
});

test('production and viewers are told why they cannot write', async () => {
  await show({ verdict: 'holds' }, { slug: 'production', answers: {} });
  const button = await screen.findByRole('button', { name: 'New example' });
  expect(button.getAttribute('aria-disabled')).toBe('true');
});

describe('in words', () => {
  test.each<[Partial<ExampleState>, string]>([
    [{ verdict: 'holds' }, 'holds'],
    [{ verdict: 'running' }, 'running …'],
    [{ verdict: 'errors' }, 'has errors'],
    [{ verdict: 'differs', outcome: { ...DIFFERS, rows: DIFFERS.rows.slice(2, 3) } }, '1 row missing'],
  ])('%j', (state, words) => {
    expect(exampleWords(stateOf(state))).toBe(words);
  });
  test.each([
    [{ kind: 'input', table: 'a.b', load: 2 } as const, 3, 'Load 2: a.b'],
    [{ kind: 'input', table: 'a.b', load: 1 } as const, 1, 'Input a.b'],
    [{ kind: 'member', table: 'a.b' } as const, 1, 'Members of a.b'],
    [{ kind: 'target' } as const, 1, 'The table before'],
    [{ kind: 'each' } as const, 1, 'Row of the list'],
  ])('%j of %i', (part, loads, words) => {
    expect(partWords(part, loads)).toBe(words);
  });
  test('files in the order in which they are read', () => {
    const of = (part: Parameters<typeof partWords>[0]) => ({ path: JSON.stringify(part), part });
    const files = [
      of({ kind: 'result' }),
      of({ kind: 'input', table: 'a.b', load: 10 }),
      of({ kind: 'input', table: 'a.b', load: 2 }),
      of({ kind: 'member', table: 'a.c' }),
      of({ kind: 'params' }),
    ];
    expect(inOrder(files).map((f) => f.part)).toEqual([4, 3, 2, 1, 0].map((i) => files[i]!.part));
  });
  test('a key that means the same stays as it was written', () => {
    const rows = [{ kind: 'same', expected: ['N1'], actual: ['N1 from 2025-01-01 00:00:00+00'], cells: [] }] as const;
    expect(asExpected({ columns: ['berth_key'], rows })).toBe('berth_key\nN1\n');
  });
});
