/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, Problem, renderPlace, serve } from '../../testing';

const { default: Tables } = await import('./tables');
const { store, textTyped } = await import('../../data/store');
afterEach(cleanup);
beforeEach(() => {
  store.dispatch(textTyped({ key: 'dues:reference/rate.csv', typed: null }));
});

const CSV = 'berth_code,rate\nB,2\nA,10\nC,\n';
const show = async (csv = CSV, { contract = true, answers = {} } = {}) => {
  const files = {
    ...FILES,
    'layers.sql': 'create schema landing; create schema reference; create schema staging; create schema core;',
    'reference/rate.csv': csv,
    ...(contract
      ? {
          'reference/rate.sql':
            'create table reference.rate (berth_code text primary key, rate integer check (rate > 0));',
        }
      : {}),
  };
  serve({
    ...around(),
    'GET workspaces/dues/files': { ...(around()['GET workspaces/dues/files'] as object), files },
    'POST workspaces/dues/preview': {
      columns: [],
      rows: [],
      total: 0,
      milliseconds: 1,
      sql: '',
      inlined: [],
      isFull: false,
    },
    ...answers,
  });
  await renderPlace(<Tables />, { at: '/w/dues/tables/reference.rate/values', route: '/w/:ws/tables/:table?/:facet?' });
};
const typed = () => store.getState().interface.typed['dues:reference/rate.csv']?.text ?? CSV;
const field = (name: string, row: number) => screen.findByLabelText(`${name} of row ${row}`);

describe('values are changed in place, and stay a CSV file', () => {
  test.each<[string, () => Promise<unknown>, string]>([
    [
      'a value',
      async () => fireEvent.change(await field('rate', 1), { target: { value: '3' } }),
      'berth_code,rate\nB,3\nA,10\nC,\n',
    ],
    [
      'to nothing',
      async () => fireEvent.change(await field('rate', 1), { target: { value: '' } }),
      'berth_code,rate\nB,\nA,10\nC,\n',
    ],
    [
      'with a comma and a quote',
      async () => fireEvent.change(await field('berth_code', 1), { target: { value: 'B, "old"' } }),
      'berth_code,rate\n"B, ""old""",2\nA,10\nC,\n',
    ],
    [
      'a row more',
      async () => userEvent.click(await screen.findByRole('button', { name: 'Add a row' })),
      'berth_code,rate\nB,2\nA,10\nC,\n,\n',
    ],
    [
      'a row less',
      async () => userEvent.click(await screen.findByRole('button', { name: 'Delete row 2' })),
      'berth_code,rate\nB,2\nC,\n',
    ],
    [
      'sorted by text',
      async () => userEvent.click(await screen.findByTitle('Sort by berth_code')),
      'berth_code,rate\nA,10\nB,2\nC,\n',
    ],
    [
      'sorted by number, nulls last, and then the other way round',
      async () => {
        await userEvent.click(await screen.findByTitle('Sort by rate'));
        await userEvent.click(await screen.findByTitle('Sort by rate'));
      },
      'berth_code,rate\nC,\nA,10\nB,2\n',
    ],
    [
      'cells of a spreadsheet, with rows added as needed',
      async () =>
        fireEvent.paste(await field('berth_code', 3), { clipboardData: { getData: () => 'D\t4\nE\t5\tmore\n' } }),
      'berth_code,rate\nB,2\nA,10\nD,4\nE,5\n',
    ],
  ])('%s', async (_, act, text) => {
    await show();
    await act();
    await waitFor(() => expect(typed()).toBe(text));
  });
});

describe('what is wrong is said', () => {
  test.each<[string, string, string]>([
    ['a value of another type', 'berth_code,rate\nA,much\n', '1 value wrong: row 1, “much” is not a whole number'],
    ['a key twice', 'berth_code,rate\nA,1\nA,2\n', '1 value wrong: row 2, A is already in row 1'],
    ['nothing', CSV, 'every value is of its type, and the contract’s checks hold'],
  ])('%s', async (_, csv, text) => {
    await show(csv);
    await waitFor(() => expect(document.body.textContent).toContain(text));
  });
  test('conditions are asked of the database, and their cells marked', async () => {
    await show('berth_code,rate\nA,-1\n', {
      answers: {
        'POST workspaces/dues/preview': {
          columns: [],
          rows: [['0', '1']],
          total: 1,
          milliseconds: 1,
          sql: '',
          inlined: [],
          isFull: false,
        },
      },
    });
    await waitFor(() => expect(document.body.textContent).toContain('1 value wrong: row 1, breaks'));
    const table = screen.getByRole('table', { name: 'Values of reference.rate' });
    expect(
      within(table)
        .getAllByRole('textbox')
        .some((f) => f.getAttribute('aria-invalid') === 'true'),
    ).toBe(true);
  });
  test('a file’s rows are taken by their names, and all that does not fit is listed', async () => {
    await show();
    const rows = await screen.findByLabelText('File of values');
    await userEvent.upload(rows, new File(['Rate;Berth Code;more\nx;D;1\ny;D;2\n3;E;3\n'], 'rates.csv'));
    await waitFor(() => expect(typed()).toBe('berth_code,rate\nD,x\nD,y\nE,3\n'));
    await userEvent.click(await screen.findByRole('button', { name: /values wrong/ }));
    const list = await screen.findByRole('list', { name: 'Values that do not fit' });
    expect(list.textContent).toContain('row 1rate“x” is not a whole number');
    expect(list.textContent).toContain('row 2rate“y” is not a whole number');
    expect(await screen.findByText('Left out: more.')).toBeTruthy();
  });
  test('a file of another table is refused, and nothing is lost', async () => {
    await show();
    await userEvent.upload(await screen.findByLabelText('File of values'), new File(['a,b\n1,2\n'], 'other.csv'));
    expect(await screen.findByText(/none of its columns is berth_code, rate/)).toBeTruthy();
    expect(typed()).toBe(CSV);
  });
  test('where the database does not answer', async () => {
    await show(CSV, { answers: { 'POST workspaces/dues/preview': new Problem(503, 'The database does not answer') } });
    await waitFor(() =>
      expect(document.body.textContent).toContain('checks could not run: The database does not answer'),
    );
  });
  test('without a contract each value is a text', async () => {
    await show(CSV, { contract: false });
    await waitFor(() => expect(document.body.textContent).toContain('every value is of its type'));
  });
  test.each<[string, string, string]>([
    ['a quote that is not closed', 'a,b\n"1,2\n', 'Line 2: a quote is opened and not closed.'],
    ['nothing at all', '', 'It has no header row.'],
  ])('%s is fixed in the file', async (_, csv, text) => {
    await show(csv, { contract: false });
    expect(await screen.findByText(new RegExp(text))).toBeTruthy();
  });
});
