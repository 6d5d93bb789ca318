/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals';
import { cleanup, fireEvent, render, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Tooltip } from 'radix-ui';
import { Grid } from './grid';

afterEach(cleanup);

const COLUMNS = [
  { name: 'code', type: 'text' },
  { name: 'length_m', type: 'numeric(6,1)' },
  { name: 'open', type: 'boolean' },
  { name: 'key', type: 'bigint', standIn: 'the load gives it' },
];
const ROWS = [
  ['A', '1204.5', 't', null],
  ['B', null, 'f', '2'],
  ['C', '7.0', null, '3'],
];
const show = (more: object = {}) =>
  render(
    <Tooltip.Provider>
      <Grid label="Rows" columns={COLUMNS} rows={ROWS} {...more} />
    </Tooltip.Provider>,
  );
const focused = () =>
  screen.getAllByRole('gridcell').find((c) => c.getAttribute('aria-selected') === 'true')?.textContent;

test('numbers have separators, booleans words, nulls are distinguished', () => {
  show();
  expect(screen.getAllByRole('gridcell').map((c) => c.textContent)).toEqual([
    ...['A', '1,204.5', 'true', 'null'],
    ...['B', 'null', 'false', '2'],
    ...['C', '7.0', 'null', '3'],
  ]);
  expect(screen.getByRole('grid').getAttribute('aria-rowcount')).toBe('4');
  expect(screen.getByText('stand-in')).toBeTruthy();
});

describe('keys move among cells', () => {
  test.each<[string, string[], string]>([
    ['down', ['ArrowDown'], 'B'],
    ['right', ['ArrowRight'], '1,204.5'],
    ['not beyond the last', ['End', 'ArrowDown', 'ArrowRight', 'ArrowRight', 'ArrowRight', 'ArrowRight'], '3'],
    ['back to the first', ['End', 'ArrowLeft', 'Home'], 'A'],
    ['by pages', ['PageDown', 'PageUp', 'ArrowUp'], 'A'],
  ])('%s', (_, keys, expected) => {
    show();
    for (const key of keys) fireEvent.keyDown(screen.getByRole('grid'), { key });
    expect(focused()).toBe(expected);
  });
  test('a click chooses, Ctrl C copies the value as it is', () => {
    const written: string[] = [];
    Object.assign(navigator, { clipboard: { writeText: async (t: string) => void written.push(t) } });
    show();
    fireEvent.mouseDown(screen.getByText('1,204.5'));
    fireEvent.keyDown(screen.getByRole('grid'), { key: 'c', ctrlKey: true });
    fireEvent.mouseDown(screen.getAllByText('null')[0]!);
    fireEvent.keyDown(screen.getByRole('grid'), { key: 'c', metaKey: true });
    expect(written).toEqual(['1204.5', '']);
  });
});

test('a row is opened by Enter and by a double click', () => {
  const opened: number[] = [];
  show({ onOpen: (row: number) => opened.push(row) });
  fireEvent.keyDown(screen.getByRole('grid'), { key: 'ArrowDown' });
  fireEvent.keyDown(screen.getByRole('grid'), { key: 'Enter' });
  fireEvent.doubleClick(screen.getByText('C').closest('[role=row]')!);
  expect(opened).toEqual([1, 2]);
});

test('heads sort, and say how', async () => {
  const onSort = jest.fn();
  show({
    onSort,
    sort: [
      { column: 'length_m', descending: true },
      { column: 'code', descending: false },
    ],
  });
  const head = screen.getByRole('columnheader', { name: /length_m/ });
  expect(head.getAttribute('aria-sort')).toBe('descending');
  expect(head.textContent).toContain('↓1');
  expect(screen.getByRole('columnheader', { name: /^code/ }).getAttribute('aria-sort')).toBe('ascending');
  await userEvent.click(within(head).getByRole('button'));
  expect(onSort).toHaveBeenCalledWith('length_m');
});

test('more rows are asked for when the last come into sight', () => {
  const onEnd = jest.fn();
  show({ onEnd });
  expect(onEnd).toHaveBeenCalled();
});

test('a column is made wider by dragging, and fits again by a double click', () => {
  show();
  const head = screen.getByRole('columnheader', { name: /^code/ });
  const handle = head.querySelector('.cursor-col-resize')!;
  const widths = () => head.parentElement!.style.gridTemplateColumns.split(' ').map(parseFloat);
  const [before] = widths();
  fireEvent.mouseDown(handle, { clientX: 100 });
  fireEvent.mouseMove(document, { clientX: 160 });
  fireEvent.mouseUp(document, { clientX: 160 });
  expect(widths()[0]).toBe(before! + 60);
  fireEvent.doubleClick(handle);
  expect(widths()[0]).toBe(before);
});

describe('rows are chosen', () => {
  test('with the space bar, where the cursor is', () => {
    const onChoose = jest.fn();
    show({ chosen: new Set<number>(), onChoose });
    fireEvent.mouseDown(screen.getByText('B'));
    fireEvent.keyDown(screen.getByRole('grid'), { key: ' ' });
    fireEvent.keyDown(screen.getByRole('grid'), { key: 'ArrowDown' });
    fireEvent.keyDown(screen.getByRole('grid'), { key: ' ' });
    expect(onChoose.mock.calls).toEqual([[1], [2]]);
  });
  test('with Ctrl and a click, and by a click alone not', () => {
    const onChoose = jest.fn();
    show({ chosen: new Set<number>(), onChoose });
    fireEvent.click(screen.getByText('C'));
    fireEvent.click(screen.getByText('C'), { ctrlKey: true });
    fireEvent.click(screen.getByText('A'), { metaKey: true });
    expect(onChoose.mock.calls).toEqual([[2], [0]]);
  });
  test('and said to be so', () => {
    show({ chosen: new Set([1]), onChoose: () => undefined });
    const lines = screen.getAllByRole('row').slice(1);
    expect(lines.map((r) => r.getAttribute('aria-selected'))).toEqual(['false', 'true', 'false']);
  });
  test('nowhere where nothing is done with them', () => {
    show();
    fireEvent.keyDown(screen.getByRole('grid'), { key: ' ' });
    expect(screen.getAllByRole('row')[1]!.getAttribute('aria-selected')).toBeNull();
  });
});
