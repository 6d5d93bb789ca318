/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals';
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, renderPlace, serve } from '../../testing';

/** Laid out one below the other, without the library's worker. */
const laidOut: number[] = [];
jest.unstable_mockModule('./layout', () => ({
  NODE_WIDTH: 158,
  NODE_HEIGHT: 27,
  layOut: async (tables: readonly { name: string }[]) => {
    laidOut.push(tables.length);
    return { positions: new Map(tables.map((t, i) => [t.name, { x: 0, y: i * 40 }])), height: tables.length * 40 };
  },
}));
const { default: Lineage } = await import('./lineage');
afterEach(cleanup);

const MANY = Object.fromEntries(
  Array.from({ length: 300 }, (_, i) => [
    `core/t_${i}.sql`,
    i === 0 ? 'select berth_code from staging.berth' : `select berth_code from core.t_${i - 1}`,
  ]),
);
const show = async (files: object = {}, query = '') => {
  laidOut.length = 0;
  serve({
    ...around(),
    'GET workspaces/dues/files': {
      ...(around()['GET workspaces/dues/files'] as object),
      files: { ...FILES, ...files },
    },
  });
  await renderPlace(<Lineage />, { at: `/w/dues/lineage${query}` });
};

describe('few tables are drawn', () => {
  test('all of them, or those around one', async () => {
    await show();
    expect(await screen.findByText('3 of 3 tables')).toBeTruthy();
    await waitFor(() => expect(laidOut).toEqual([3]));
    await userEvent.type(screen.getByLabelText('Search tables'), 'dim{Enter}');
    await waitFor(() =>
      expect(screen.getByLabelText('address').textContent).toBe('/w/dues/lineage?focus=core.dim_berth&up=999&down=999'),
    );
    await userEvent.selectOptions(screen.getByLabelText('upstream'), '1');
    expect(await screen.findByText('2 of 3 tables')).toBeTruthy();
    expect(screen.getByRole('complementary', { name: 'core.dim_berth' }).textContent).toContain('staging.berth');
  });
});

describe('of many tables one is chosen first', () => {
  test('nothing is laid out, and the list is narrowed by what is typed', async () => {
    await show(MANY);
    expect(await screen.findByText(/303 tables are too many to draw at once/)).toBeTruthy();
    expect(screen.getAllByRole('listitem').length).toBeLessThan(60);
    await userEvent.type(screen.getByLabelText('Search tables'), 't_299');
    await waitFor(() => expect(screen.getAllByRole('listitem').length).toBe(1));
    await userEvent.click(screen.getByRole('button', { name: /core.t_299/ }));
    expect(await screen.findByText('3 of 303 tables')).toBeTruthy();
    await waitFor(() => expect(laidOut).toEqual([3]));
  });
  test('also where there are too many around one', async () => {
    await show(MANY, '?focus=core.t_299&up=999&down=999');
    expect(await screen.findByText(/302 tables are too many to draw at once/)).toBeTruthy();
    expect(laidOut).toEqual([]);
  });
});
