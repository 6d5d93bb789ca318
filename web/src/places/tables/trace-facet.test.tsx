/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { EditorView } from '@codemirror/view';
import { act, cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, renderPlace, serve } from '../../testing';

const { default: Tables } = await import('./tables');
const { store, textTyped } = await import('../../data/store');
afterEach(() => {
  cleanup();
  for (const key of Object.keys(store.getState().interface.typed)) store.dispatch(textTyped({ key, typed: null }));
});

const show = async (at: string, files: object = {}) => {
  serve({
    ...around(),
    'GET workspaces/dues/files': {
      ...(around()['GET workspaces/dues/files'] as object),
      files: { ...FILES, ...files },
    },
  });
  await renderPlace(<Tables />, { at, route: '/w/:ws/tables/:table/:facet' });
};

describe('the trace of a column', () => {
  test('is written step by step, each a link to the author’s line', async () => {
    await show('/w/dues/tables/core.dim_berth/trace?column=length_m', {
      'staging/berth.sql': 'select berth_code,\n  round(length_m, 1) as length_m from landing.berth',
    });
    expect(await screen.findByText('2 columns before it')).toBeTruthy();
    const written = screen.getByText('round(length_m, 1)').closest('a')!;
    expect(written.getAttribute('href')).toBe('/w/dues/tables/staging.berth?at=2.1');
    expect(screen.getByText('calculated')).toBeTruthy();
    expect(screen.getByText('source')).toBeTruthy();
    await userEvent.click(screen.getByRole('link', { name: 'landing.berth.length_m' }));
    expect(screen.getByLabelText('address').textContent).toBe('/w/dues/tables/landing.berth/trace?column=length_m');
    await waitFor(() =>
      expect(screen.getByText('Gives its value to').closest('section')!.textContent).toBe(
        'Gives its value tostaging.berth.length_mcore.dim_berth.length_m',
      ),
    );
  });
  test('of a column that the load fills says so', async () => {
    await show('/w/dues/tables/core.dim_berth/trace');
    expect(await screen.findByText('filled by the load')).toBeTruthy();
    expect(within(screen.getByRole('list', { name: 'Columns of core.dim_berth' })).getAllByRole('link').length).toBe(3);
  });
  test('of a table whose columns are not known says what to do', async () => {
    await show('/w/dues/tables/staging.berth/trace', { 'staging/berth.sql': 'select * from landing.nowhere' });
    expect(await screen.findByText('The columns of this table are not known')).toBeTruthy();
  });
});

describe('before an edit is saved, the bench says', () => {
  const type = async (text: string) => {
    await waitFor(() => expect(document.querySelector('.cm-editor')).toBeTruthy());
    const view = EditorView.findFromDOM(document.querySelector<HTMLElement>('.cm-editor')!)!;
    act(() => view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } }));
  };
  test.each([
    [
      'what it breaks',
      'select berth_code from landing.berth',
      'This edit causes 1 error in 1 other definition: core/dim_berth.sql:6, there is no column length_m',
      '/w/dues/tables/core.dim_berth?at=6.20',
    ],
    [
      'whose values change',
      'select berth_code, length_m * 2 as length_m from landing.berth',
      'Values may change in staging.berth.length_m, core.dim_berth.length_m',
      '/w/dues/tables/staging.berth/trace?column=length_m',
    ],
    [
      'which rows change',
      'select berth_code, length_m from landing.berth where length_m > 0',
      'Rows may change in staging.berth, core.dim_berth',
      '/w/dues/tables/staging.berth',
    ],
  ])('%s', async (_, text, said, href) => {
    await show('/w/dues/tables/staging.berth/definition');
    await type(text);
    const line = await screen.findByLabelText('What this edit changes');
    expect(line.textContent).toBe(said);
    expect(within(line).getAllByRole('link')[0]!.getAttribute('href')).toBe(href);
  });
});
