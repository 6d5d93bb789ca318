/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, render, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { useState } from 'react';
import type { Comparison } from '@ouvrage/api/release';
import { type Answers, firstAnswers, KeptRows } from './kept-rows';

afterEach(cleanup);

const migration = (of: Partial<Comparison['migrations'][number]> = {}): Comparison['migrations'][number] => ({
  table: 'core.dim_berth',
  policy: 'history',
  choices: ['go on', 'start over'],
  statements: ['alter table core.dim_berth add column quay text'],
  holders: [],
  ...of,
});

/** Shows what a comparison asks. @returns the answers as they are now */
const show = (of: Partial<Comparison>): (() => Answers) => {
  const data = { migrations: [], losses: [], rehashes: [], ...of } as unknown as Comparison;
  let kept = firstAnswers(data);
  function Asked() {
    const [answers, setAnswers] = useState(kept);
    kept = answers;
    return <KeptRows data={data} answers={answers} onAnswer={setAnswers} />;
  }
  render(<Asked />);
  return () => kept;
};

test('where no rows are at stake nothing is asked', () => {
  show({});
  expect(screen.queryByRole('group')).toBeNull();
  expect(screen.queryByRole('checkbox')).toBeNull();
});

test('the usual answer is the first; starting over says who holds its numbers instead of how columns change', async () => {
  const holders = [
    { table: 'core.fact_call', looksUpAgain: true },
    { table: 'core.fact_dues', looksUpAgain: false },
  ];
  const answers = show({ migrations: [migration({ holders })] });
  expect(answers().treatments).toEqual({ 'core.dim_berth': 'go on' });
  expect(screen.getByLabelText('How the columns of core.dim_berth change').textContent).toContain('add column quay');
  await userEvent.click(screen.getByRole('radio', { name: 'start over, without its rows' }));
  expect(answers().treatments).toEqual({ 'core.dim_berth': 'start over' });
  expect(screen.queryByLabelText('How the columns of core.dim_berth change')).toBeNull();
  const held = screen.getByRole('list', { name: 'Tables that hold numbers of core.dim_berth' });
  expect(
    within(held)
      .getAllByRole('listitem')
      .map((i) => i.textContent),
  ).toEqual([
    'core.fact_call holds its numbers and looks them up again',
    'core.fact_dues holds its numbers and keeps those of rows that are gone',
  ]);
});

test('what stands in the way of going on is said', () => {
  const answers = show({ migrations: [migration({ choices: ['start over'], obstacle: 'its key has changed' })] });
  expect(screen.getByText('It cannot continue from its rows: its key has changed.')).toBeTruthy();
  expect(answers().treatments).toEqual({ 'core.dim_berth': 'start over' });
});

test('each loss needs a consent of its own, which can be taken back', async () => {
  const losses = [{ of: 'core.dim_port' }, { of: 'core.dim_berth.depth_m', cutTo: 'numeric(3,1)' }];
  const answers = show({ losses } as never);
  const [table, column] = screen.getAllByRole('checkbox');
  expect(screen.getByText(/may be dropped/)).toBeTruthy();
  expect(screen.getByText(/may be cut to numeric\(3,1\)/)).toBeTruthy();
  await userEvent.click(table!);
  await userEvent.click(column!);
  expect(answers().consents).toEqual(['core.dim_port', 'core.dim_berth.depth_m']);
  await userEvent.click(table!);
  expect(answers().consents).toEqual(['core.dim_berth.depth_m']);
});

test.each([
  [['core.fact_call'], 'with it the keys that core.fact_call holds'],
  [['core.fact_call', 'core.fact_dues'], 'with it the keys that core.fact_call, core.fact_dues hold'],
])('hashes that are made again are told with the facts %p that hold them', (facts, words) => {
  show({ rehashes: [{ table: 'core.dim_berth', columns: ['says'], facts }] });
  expect(document.body.textContent).toContain(`core.dim_berth: says, so that equal values have equal hashes; ${words}`);
});

test.each([
  [7, 'Dropped', /A copy is kept for 7 days/],
  [0, 'Permanently lost', undefined],
])('where copies are kept for %p days, losses are %p', (keptDays, title, told) => {
  show({ keptDays, losses: [{ of: 'core.dim_port' }] });
  expect(screen.getByText(title)).toBeTruthy();
  expect(screen.queryByText(told ?? /A copy is kept/) !== null).toBe(told !== undefined);
});

test('what does not come back as it was is confirmed, each by itself', async () => {
  const table = { why: '', rows: '1204', bytes: 2_000_000 };
  const answers = show({
    restores: {
      releases: [3],
      tables: [
        { ...table, table: 'core.whole', mark: 'comes back' },
        { ...table, table: 'core.partly', mark: 'comes back in part', why: 'versions that were opened since are lost' },
        { ...table, table: 'core.gone', mark: 'lost', rows: null, bytes: null },
      ],
    },
  });
  const items = within(screen.getByRole('list', { name: 'Tables that come back' })).getAllByRole('listitem');
  expect(items.map((i) => i.textContent)).toEqual([
    'core.whole comes back1,204 rows, 2 MB',
    'core.partly comes back in part1,204 rows, 2 MB, versions that were opened since are lost',
    'core.gone lost',
  ]);
  const boxes = screen.getAllByRole('checkbox');
  expect(boxes).toHaveLength(2);
  for (const box of boxes) await userEvent.click(box);
  expect(answers().consents).toEqual(['core.partly', 'core.gone']);
  await userEvent.click(boxes[0]!);
  expect(answers().consents).toEqual(['core.gone']);
});
