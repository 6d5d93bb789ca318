/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import type { ReleaseCost, TableChange } from '@ouvrage/api/release';
import { cleanup, render, screen } from '@testing-library/react';
import { ReleaseWork } from './release-work';

afterEach(cleanup);

const CHANGE: TableChange = {
  kind: 'changed',
  table: 'core.a',
  columnsAdded: [],
  columnsDropped: [],
  columnsRenamed: [],
  columnsRetyped: [],
};
const COST: ReleaseCost = { seconds: 1.25, untimed: 0, bytes: 12_400_000, free: 3_210_000_000 };
const BESIDE = 'next to the old ones, checks them, and swaps them all at once.';

test.each<[string, readonly Partial<TableChange>[], Partial<ReleaseCost>, readonly string[]]>([
  [
    'one table',
    [{}],
    {},
    [
      `Builds 1 table ${BESIDE}`,
      'Its last load took 1.3 s. It needs about 12 MB of disk until it is through; 3.2 GB are free.',
    ],
  ],
  [
    'several, of which one is new',
    [{}, { table: 'core.b' }, { kind: 'new', table: 'core.c' }],
    { untimed: 1, bytes: 1000, free: null },
    [
      `Builds 3 tables ${BESIDE}`,
      'The last loads of 2 of them took 1.3 s, one after the other. It needs under 1 MB of disk until it is through.',
    ],
  ],
  ['new ones alone', [{ kind: 'new' }], { untimed: 1 }, ['None of them has been loaded in production yet.']],
  [
    'other names',
    [{ kind: 'renamed', was: 'core.z', columnsRenamed: [{ was: 'x', now: 'y' }] }],
    {},
    ['Renames core.z to core.a, core.a.x to y: values stay.'],
  ],
  ['a table that goes', [{ kind: 'deleted' }], {}, ['It builds no table.', 'Drops core.a.']],
  ['more than the disk has', [{}], { free: 10 }, ['The disk may become full']],
])('%s', (_, tables, cost, said) => {
  render(<ReleaseWork tables={tables.map((t) => ({ ...CHANGE, ...t }))} cost={{ ...COST, ...cost }} restores={null} />);
  const text = screen.getByRole('region', { name: 'What the release does' }).textContent;
  for (const words of said) expect(text).toContain(words);
});

test('kept copies are put back, not built', () => {
  const tables = [
    { table: 'core.a', mark: 'comes back' as const, why: '', rows: '3', bytes: 8192 },
    { table: 'core.b', mark: 'lost' as const, why: 'no copy is left', rows: null, bytes: null },
  ];
  const changes = ['core.a', 'core.b'].map((table) => ({ ...CHANGE, table }));
  render(<ReleaseWork tables={changes} cost={COST} restores={{ releases: [3], tables }} />);
  const text = screen.getByRole('region', { name: 'What the release does' }).textContent;
  expect(text).toContain('Puts 1 kept copy back, all in one transaction.');
  expect(text).toContain('Builds 1 table ');
});
