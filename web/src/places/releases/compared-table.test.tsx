/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ComparedColumnFigures, ComparedColumns, ComparedCounts, ComparedRows } from '@ouvrage/api/compared';
import { around, Problem, renderPlace, serve } from '../../testing';

const { ComparedAll } = await import('./compared-all');
const { ComparedTable } = await import('./compared-table');
afterEach(cleanup);

const COUNTS: ComparedCounts = {
  table: 'core.dim_berth',
  was: 'core.dim_berth',
  key: ['berth_code'],
  isSame: false,
  there: '1204',
  here: '1210',
  onlyThere: '0',
  onlyHere: '6',
  equal: '1200',
  different: '4',
  repeated: null,
  added: ['depth_m'],
  gone: ['old_name'],
  apart: ['berth_key'],
  leftOut: [],
  newer: [],
  milliseconds: 3,
  sql: 'select 1',
};
const figures = (of: Partial<ComparedColumnFigures>): ComparedColumnFigures => ({
  column: 'quay',
  differ: '0',
  nulls: { before: '0', after: '0' },
  numbers: null,
  frequent: [],
  ...of,
});
const pair = (before: string | null, after: string | null) => ({ before, after });
const COLUMNS: ComparedColumns = {
  columns: [
    figures({
      differ: '4',
      nulls: pair('0', '2'),
      frequent: [
        { ...pair('N', null), rows: '2' },
        { ...pair('', 'S'), rows: '1' },
      ],
    }),
    figures({
      column: 'length_m',
      differ: '1',
      numbers: { sum: pair('10.5', '12.5'), mean: pair('1', '2'), least: pair('1', '1'), greatest: pair('3', '4') },
      frequent: [{ ...pair('1', '3'), rows: '1' }],
    }),
    figures({ column: 'terminal' }),
  ],
  milliseconds: 2,
};
const ROWS: Readonly<Record<string, ComparedRows>> = {
  different: {
    kind: 'different',
    key: ['berth_code'],
    columns: ['terminal', 'quay'],
    rows: [['NQ-1', 'North', 'North', 'N', null]],
    hasMore: true,
    milliseconds: 1,
  },
  'only here': {
    kind: 'only here',
    key: ['berth_code'],
    columns: ['terminal', 'quay'],
    rows: [['NQ-9', 'North', 'x'.repeat(60)]],
    hasMore: false,
    milliseconds: 1,
  },
};
const show = async (counts: unknown, answers: object = {}) => {
  const sent = serve({
    ...around('editor'),
    'GET workspaces/dues/compared/counts': counts,
    'GET workspaces/dues/compared/columns': COLUMNS,
    'GET workspaces/dues/compared/rows': ({ path }: { path: string }) =>
      ROWS[new URLSearchParams(path.split('?')[1]).get('kind')!],
    ...answers,
  });
  await renderPlace(<ComparedTable table="core.dim_berth" />);
  return sent;
};
const cells = (row: HTMLElement) =>
  within(row)
    .getAllByRole('cell')
    .map((c) => c.textContent);

describe('the rows of a table beside production’s', () => {
  test('are counted, columns say what differs, and rows are shown old beside new', async () => {
    await show(COUNTS);
    const sheet = await screen.findByLabelText('Rows of core.dim_berth');
    expect(sheet.querySelector('dl')!.textContent).toBe(
      'Production1,204This workspace1,210Only here6Only there0Changed4',
    );
    expect(within(sheet).getByText(/Matched by berth_code/).textContent).toBe(
      'Matched by berth_code. Not compared, as each load assigns its own: berth_key.',
    );
    const columns = within(await screen.findByRole('region', { name: 'Columns' }));
    await columns.findByText('quay');
    expect(columns.getAllByRole('row').slice(1).map(cells)).toEqual([
      ['depth_m', 'new column', '', '', ''],
      ['old_name', 'dropped', '', '', ''],
      ['quay', 'values', '4', '', 'N became null 2×empty became S 1×nulls 0 → 2'],
      ['length_m', 'values', '1', '', 'sum 10.5 → 12.5'],
      ['terminal', 'same', '0', '', ''],
    ]);
    const rows = within(screen.getByRole('region', { name: 'Rows' }));
    expect(cells((await rows.findAllByRole('row'))[1]!)).toEqual(['NQ-1', 'N became null', 'North']);
    expect(rows.getByText('Only the first row is shown.')).toBeTruthy();
    expect(rows.getByRole('link', { name: 'Save all as CSV' }).getAttribute('href')).toBe(
      '/api/workspaces/dues/compared/export?table=core.dim_berth&kind=different',
    );
    await userEvent.click(rows.getByRole('button', { name: 'Only here 6' }));
    expect(await rows.findByText('NQ-9')).toBeTruthy();
    expect(rows.getByText(`${'x'.repeat(40)}…`)).toBeTruthy();
    expect(rows.queryByRole('button', { name: /Only there/ })).toBeNull();
  });
  test.each<[string, Partial<ComparedCounts>, RegExp]>([
    ['equal ones', { onlyHere: '0', different: '0' }, /^1,200 rows equal$/],
    ['a table that production names otherwise', { was: 'core.berth' }, /Production calls it core\.berth\./],
    ['no key', { key: [] }, /^No key tells rows apart/],
    [
      'keys that are there twice',
      { repeated: { keys: '1', there: '2', here: '3', equal: '2' } },
      /^1 key occurs more than once\..* 2 in production, 3 here, 2 of them equal\.$/,
    ],
    [
      'inputs that are newer',
      { newer: ['landing.berth'] },
      /^Perhaps not like for like: landing\.berth has been loaded/,
    ],
    ['what a viewer may not see', { leftOut: ['keeper'] }, /left out for viewers: keeper/],
  ])('%s', async (_, of, text) => {
    await show({ ...COUNTS, ...of });
    expect(await screen.findByText(text)).toBeTruthy();
  });
  test('a table that is read from production has nothing to compare', async () => {
    await show({ table: 'core.dim_berth', isSame: true });
    expect(await screen.findByText(/reads core\.dim_berth from production/)).toBeTruthy();
  });
  test('comparing is stopped, and begun again', async () => {
    const answers = [new Promise(() => undefined), COUNTS];
    await show(() => answers.shift());
    await userEvent.click(await screen.findByRole('button', { name: 'Stop' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Compare the rows' }));
    expect(await screen.findByLabelText('Rows of core.dim_berth')).toBeTruthy();
  });
  test.each([
    ['not-run', 'core.dim_berth has not been run in this workspace', /Not run here yet/],
    ['new-table', 'core.dim_berth is new', /A new table/],
    ['too-slow', 'Comparing the rows took longer', /Comparing the rows took longer/],
  ])('%s says so', async (code, title, text) => {
    await show(new Problem(409, title, undefined, { code }));
    expect(await screen.findByText(text)).toBeTruthy();
  });
});

describe('the rows of all tables', () => {
  const OF: Readonly<Record<string, unknown>> = {
    'core.a': { ...COUNTS, onlyHere: '0', different: '1' },
    'core.b': { ...COUNTS, onlyHere: '5', different: '7', newer: ['landing.berth'] },
    'core.c': { ...COUNTS, onlyHere: '0', different: '0' },
    'core.d': new Problem(409, 'core.d is new', undefined, { code: 'new-table' }),
    'core.e': { table: 'core.e', isSame: true },
    'core.f': {
      ...COUNTS,
      ...{ onlyHere: '0', different: '0', repeated: { keys: '9', there: '20', here: '10', equal: '5' } },
    },
  };
  const showAll = async (of: (table: string) => unknown = (table) => OF[table]) => {
    const sent = serve({
      ...around('editor'),
      'GET workspaces/dues/compared/counts': ({ path }: { path: string }) =>
        of(new URLSearchParams(path.split('?')[1]).get('table')!),
    });
    await renderPlace(<ComparedAll tables={Object.keys(OF)} />);
    return sent;
  };
  const lines = () => screen.getAllByRole('row').slice(1).map(cells);
  test('are counted one after another, and what changed most is first', async () => {
    await showAll();
    await screen.findByText('6 of 6 tables compared');
    expect(lines()).toEqual([
      ['core.f', '0', '0', '0', '1,200', 'keys occur more than once'],
      ['core.b', '5', '0', '7', '1,200', 'perhaps not like for like'],
      ['core.a', '0', '0', '1', '1,200', ''],
      ['core.c', '0', '0', '0', '1,200', '1,200 rows equal'],
      ['core.e', '', '', '', '', 'read from production'],
      ['core.d', '', '', '', '', 'new: production does not have it'],
    ]);
    expect(screen.getByRole('link', { name: 'core.b' }).getAttribute('href')).toBe('/w/dues/releases?rows=core.b');
    expect(screen.queryByRole('button', { name: 'Stop' })).toBeNull();
  });
  test('stop when they are told to, and go on from there', async () => {
    let isHeld = true;
    const sent = await showAll((table) => (isHeld && table === 'core.b' ? new Promise(() => undefined) : OF[table]));
    await screen.findByText('1 of 6 tables compared');
    await userEvent.click(screen.getByRole('button', { name: 'Stop' }));
    expect(lines()[1]!.at(-1)).toBe('not compared yet');
    isHeld = false;
    await userEvent.click(await screen.findByRole('button', { name: 'Go on comparing' }));
    await screen.findByText('6 of 6 tables compared');
    const asked = sent.read.flatMap((s) => /table=(.*)/.exec(s.path)?.[1] ?? []);
    expect(asked).toEqual(['core.a', 'core.b', 'core.b', 'core.c', 'core.d', 'core.e', 'core.f']);
  });
});
