/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, renderPlace, serve } from '../../testing';

const { default: Lineage } = await import('./lineage');
afterEach(cleanup);

const MANY = Object.fromEntries(
  Array.from({ length: 300 }, (_, i) => [
    `core/t_${i}.sql`,
    i === 0 ? 'select berth_code from staging.berth' : `select berth_code from core.t_${i - 1}`,
  ]),
);
const show = async (files: object = {}, query = '') => {
  serve({
    ...around(),
    'GET workspaces/dues/files': {
      ...(around()['GET workspaces/dues/files'] as object),
      files: { ...FILES, ...files },
    },
  });
  await renderPlace(<Lineage />, { at: `/w/dues/lineage${query}` });
};

const boxes = () =>
  [...document.querySelectorAll('.react-flow__node-table')].map((box) => box.getAttribute('aria-label'));
const at = () => screen.getByLabelText('address').textContent;

describe('the tables of a project are drawn', () => {
  test('all of them, or those around one', async () => {
    await show();
    expect(await screen.findByText('3 of 3 tables')).toBeTruthy();
    expect(boxes()).toEqual(['landing.berth', 'staging.berth', 'core.dim_berth']);
    await userEvent.type(screen.getByLabelText('Search tables'), 'dim{Enter}');
    await waitFor(() => expect(at()).toBe('/w/dues/lineage?focus=core.dim_berth&up=999&down=999'));
    await userEvent.selectOptions(screen.getByLabelText('upstream'), '1');
    expect(await screen.findByText('2 of 3 tables')).toBeTruthy();
    const panel = screen.getByRole('complementary', { name: 'core.dim_berth' });
    expect(panel.textContent).toContain('staging.berth');
    expect(within(panel).getByRole('link', { name: 'length_m' }).getAttribute('href')).toBe(
      '/w/dues/lineage?focus=core.dim_berth&column=length_m',
    );
  });
  test('many are folded, and a group opens and folds again', async () => {
    await show(MANY);
    expect(await screen.findByText('303 of 303 tables')).toBeTruthy();
    expect(boxes()).toEqual(['landing.berth', 'staging.berth', 'core tables, 301 tables']);
    fireEvent.click(document.querySelector('[aria-label="core tables, 301 tables"]')!);
    expect(at()).toBe('/w/dues/lineage?open=core%2F');
    await waitFor(() => expect(boxes()).not.toContain('core tables, 301 tables'));
    await userEvent.click(screen.getByRole('button', { name: 'Fold core' }));
    await waitFor(() => expect(boxes()).toContain('core tables, 301 tables'));
  });
  test('around one of many, with its group open', async () => {
    await show(MANY, '?focus=core.t_299&up=1&down=1');
    expect(await screen.findByText('2 of 303 tables')).toBeTruthy();
    expect(boxes()).toEqual(['core.t_298', 'core.t_299']);
  });
});

test('what nobody reads is listed, each a link to its way', async () => {
  await show();
  await userEvent.click(await screen.findByRole('button', { name: 'Unread columns 0' }));
  const panel = screen.getByRole('complementary', { name: 'Unread tables and columns' });
  expect(within(panel).getByText('1 table')).toBeTruthy();
  expect(within(panel).getByRole('link', { name: 'core.dim_berth' })).toBeTruthy();
});

test('columns without a description are counted by layer, and listed', async () => {
  await show();
  await userEvent.click(await screen.findByRole('button', { name: 'Without a description 7' }));
  const panel = screen.getByRole('complementary', { name: 'Descriptions of columns' });
  expect(within(panel).getByText('7 columns without a description')).toBeTruthy();
  expect(
    within(panel)
      .getAllByRole('row')
      .map((r) => r.textContent),
  ).toContain('staging002');
  await userEvent.click(within(panel).getByRole('button', { name: 'Close' }));
  expect(screen.queryByRole('complementary')).toBeNull();
});

describe('the way of a column is drawn', () => {
  const columns = () => [...document.querySelectorAll('.react-flow__node-way a')].map((a) => a.textContent);
  test('with the columns that take part, upstream, downstream or both', async () => {
    await show({}, '?focus=staging.berth&column=length_m');
    expect(await screen.findByText('How length_m is made')).toBeTruthy();
    expect(columns()).toEqual(['length_m', 'length_m', 'length_m']);
    await userEvent.click(screen.getByRole('button', { name: 'Upstream' }));
    await waitFor(() => expect(columns().length).toBe(2));
    expect(screen.getByRole('button', { name: 'Upstream' }).getAttribute('aria-pressed')).toBe('true');
  });
  test('one that is not there says so', async () => {
    await show({}, '?focus=staging.berth&column=width_m');
    expect(await screen.findByText('This column does not exist here')).toBeTruthy();
  });
});
