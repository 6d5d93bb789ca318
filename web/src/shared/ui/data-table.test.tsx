/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, render, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { useState } from 'react';
import { DataTable, type DataColumn } from './data-table';

afterEach(cleanup);

interface Berth {
  readonly code: string;
  readonly metres: number | null;
}
const BERTHS: readonly Berth[] = [
  { code: 'B', metres: 90 },
  { code: 'C', metres: null },
  { code: 'A', metres: 120 },
];
const COLUMNS: readonly DataColumn<Berth>[] = [
  { id: 'code', sortBy: (b) => b.code, cell: (b) => b.code },
  { id: 'length', inFigures: true, sortBy: (b) => b.metres ?? undefined, cell: (b) => b.metres ?? '–' },
  { id: 'action', isSilent: true, cell: (b) => <button type="button">Open {b.code}</button> },
];
const show = (more: Partial<Parameters<typeof DataTable<Berth>>[0]> = {}) =>
  render(<DataTable label="Berths" columns={COLUMNS} rows={BERTHS} keyOf={(b) => b.code} {...more} />);
const codes = () =>
  within(screen.getByRole('table'))
    .getAllByRole('button', { name: /^Open/ })
    .map((b) => b.textContent);

describe('rows are sorted by heads', () => {
  test.each<[string, string[], string[], string | null]>([
    ['as they came', [], ['Open B', 'Open C', 'Open A'], null],
    ['by text', ['code'], ['Open A', 'Open B', 'Open C'], 'ascending'],
    ['by text, the other way round', ['code', 'code'], ['Open C', 'Open B', 'Open A'], 'descending'],
    ['and back', ['code', 'code', 'code'], ['Open B', 'Open C', 'Open A'], null],
    ['greatest number first, what is missing last', ['length'], ['Open A', 'Open B', 'Open C'], 'descending'],
    ['least number first, what is missing last', ['length', 'length'], ['Open B', 'Open A', 'Open C'], 'ascending'],
  ])('%s', async (_, clicks, expected, word) => {
    show();
    for (const head of clicks) await userEvent.click(screen.getByRole('button', { name: new RegExp(`^${head}`) }));
    expect(codes()).toEqual(expected);
    expect(
      screen
        .getAllByRole('columnheader')
        .map((h) => h.getAttribute('aria-sort'))
        .find(Boolean) ?? null,
    ).toBe(word);
  });
});

test('a head without words is read aloud only, and does not sort', () => {
  show();
  const head = screen.getByRole('columnheader', { name: 'action' });
  expect(within(head).queryByRole('button')).toBeNull();
  expect(head.querySelector('.sr-only')).toBeTruthy();
});

test('heads can be for screen readers only', () => {
  show({ isHeadless: true });
  expect(screen.getByRole('table').querySelector('thead')!.className).toBe('sr-only');
});

test('a row may have more below it, as wide as the table', () => {
  show({ more: (b) => (b.metres === null ? <p>not measured</p> : null) });
  const more = screen.getByText('not measured').closest('td')!;
  expect(more.colSpan).toBe(3);
  expect(screen.getAllByRole('row').length).toBe(5);
});

test('a field in a cell keeps its cursor while the rows change', async () => {
  function Fields() {
    const [names, setNames] = useState(['one', 'two']);
    const rows = names.map((name, i) => ({ name, i }));
    const columns: DataColumn<(typeof rows)[number]>[] = [
      {
        id: 'name',
        cell: ({ name, i }) => (
          <input
            aria-label={`Name ${i}`}
            value={name}
            onChange={(e) => setNames(names.map((n, j) => (j === i ? e.target.value : n)))}
          />
        ),
      },
    ];
    return <DataTable columns={columns} rows={rows} keyOf={(r) => r.i} />;
  }
  render(<Fields />);
  const field = screen.getByLabelText('Name 1');
  await userEvent.type(field, ' more');
  expect(document.activeElement).toBe(field);
  expect((field as HTMLInputElement).value).toBe('two more');
});

test('of a long table only what is in sight is in the page', () => {
  const rows = Array.from({ length: 2000 }, (_, i) => ({ code: String(i), metres: i }));
  const scroller = document.body.appendChild(document.createElement('div'));
  show({ rows, virtual: { scroller, height: 30 } });
  const shown = codes().length;
  expect(shown).toBeGreaterThan(10);
  expect(shown).toBeLessThan(100);
});
