/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ProfileAnswer } from '@ouvrage/api/rows';
import { around, Problem, renderPlace, serve, type Sent } from '../../testing';
import type { TableSummary } from '../../worker/protocol';

const { default: ProfileView } = await import('./profile-view');
afterEach(cleanup);

const COLUMN = {
  nulls: 0,
  distinct: null,
  least: null,
  greatest: null,
  mean: null,
  quantiles: null,
  frequent: [],
  histogram: null,
  lengths: null,
  patterns: null,
};
const profile = (of: Partial<ProfileAnswer> = {}): ProfileAnswer =>
  ({
    rows: 200,
    share: 1,
    estimatedRows: 200,
    milliseconds: 30,
    where: 'here',
    columns: [
      {
        ...COLUMN,
        name: 'berth_code',
        type: 'text',
        shape: 'text',
        distinct: 3,
        nulls: 1,
        least: 'A',
        greatest: '',
        frequent: [
          ['A', 120],
          ['', 79],
        ],
        lengths: { least: 0, greatest: 4, mean: '2.500000' },
        patterns: [
          ['a', 120],
          ['', 79],
        ],
      },
      {
        ...COLUMN,
        name: 'length_m',
        type: 'numeric(6,1)',
        shape: 'number',
        distinct: 150,
        least: '20.0',
        greatest: '1500.0',
        mean: '180.500000',
        quantiles: ['22.0', '90.0', '120.0', '300.0', '1400.0'],
        histogram: [
          [0, 150],
          [19, 50],
        ],
      },
    ],
    ...of,
  }) as ProfileAnswer;
const show = async (answer: unknown, states: readonly object[] = []) => {
  const sent = serve({
    ...around(),
    'GET workspaces/dues/state': { tables: states, checks: [] },
    'POST workspaces/dues/profile': answer,
  });
  const onFilter = jest.fn();
  await renderPlace(<ProfileView table={{ fullName: 'staging.berth' } as TableSummary} onFilter={onFilter} />);
  return { sent, onFilter };
};
const figures = async (name: string) => {
  const column = await screen.findByRole('region', { name });
  const terms = within(column)
    .getAllByRole('term')
    .map((t) => t.textContent);
  const values = within(column)
    .getAllByRole('definition')
    .map((d) => d.textContent);
  return Object.fromEntries(terms.map((t, i) => [t, values[i]]));
};

describe('what each column holds', () => {
  test('texts: nulls, distinct values, lengths, patterns', async () => {
    await show(profile());
    expect(await figures('berth_code')).toEqual({
      nulls: '1 (0.50 %)',
      distinct: '3',
      least: 'A',
      greatest: '(empty)',
      length: '0 to 4, mean 2.5',
      pattern: 'a  (empty)',
    });
    expect(screen.getByText('From all 200 rows, in 30 ms. Click a bar to see its rows.')).toBeTruthy();
  });
  test('numbers: ends, mean, median and what most lie between', async () => {
    await show(profile());
    expect(await figures('length_m')).toMatchObject({
      least: '20.0',
      greatest: '1,500.0',
      mean: '180.5',
      median: '120.0',
      '5 to 95 %': '22.0 to 1,400.0',
    });
  });
  test('from a sample, it says so', async () => {
    await show(profile({ share: 0.1, rows: 20_000, estimatedRows: 200_000 }));
    expect(await screen.findByText(/From a sample of 20,000 of about 200,000 rows/)).toBeTruthy();
  });
});

test('production’s stand beside, where the workspace has built its own', async () => {
  const answer = ({ body }: Sent) =>
    (body as { production: boolean }).production ? profile({ columns: [profile().columns[0]!] as never }) : profile();
  const { sent } = await show(answer, [{ table: 'staging.berth', where: 'here', verdict: 'holds' }]);
  await userEvent.click(await screen.findByLabelText(/beside production/));
  expect(await screen.findByText('has no such column')).toBeTruthy();
  await waitFor(() =>
    expect(sent.changed.map((s) => (s.body as { production: boolean }).production)).toEqual([false, true]),
  );
});

test.each<[string, unknown, string]>([
  ['no row', profile({ rows: 0 }), 'The table has no rows to profile'],
  ['a failure', new Problem(503, 'The database does not answer'), 'The database does not answer'],
])('%s is said', async (_, answer, text) => {
  await show(answer);
  expect(await screen.findByText(text)).toBeTruthy();
});
