/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve } from '../../testing';

const { MergeConflict } = await import('./merge-conflict');
afterEach(cleanup);

const CONFLICTS = [
  { path: 'staging/berth.sql', mine: 'select 1', theirs: 'select 2' },
  { path: 'staging/gone.sql', mine: 'select 3', theirs: null },
] as never;
const show = async (answer: unknown) => {
  const sent = serve({ ...around(), 'POST workspaces/dues/take-production': answer });
  await renderPlace(<MergeConflict conflicts={CONFLICTS} />);
  await screen.findByText('staging/gone.sql');
  return sent;
};
const settle = () => userEvent.click(screen.getByRole('button', { name: /^Save and merge/ }));

describe('each file is settled with one text', () => {
  test.each<[string, () => unknown, Record<string, string>]>([
    ['one’s own, as it begins', () => undefined, { 'staging/berth.sql': 'select 1', 'staging/gone.sql': 'select 3' }],
    [
      'production’s',
      async () => userEvent.click(screen.getAllByRole('button', { name: /production’s/i })[0]!),
      { 'staging/berth.sql': 'select 2', 'staging/gone.sql': 'select 3' },
    ],
    [
      'production’s, which deleted it',
      async () => userEvent.click(screen.getAllByRole('button', { name: /production’s/i })[1]!),
      { 'staging/berth.sql': 'select 1', 'staging/gone.sql': '' },
    ],
    [
      'one that is written',
      () =>
        fireEvent.change(screen.getByLabelText('Merged text of staging/berth.sql'), { target: { value: 'select 4' } }),
      { 'staging/berth.sql': 'select 4', 'staging/gone.sql': 'select 3' },
    ],
  ])('%s', async (_, act, files) => {
    const sent = await show(undefined);
    await act();
    await settle();
    await waitFor(() => expect(sent.changed.map((s) => s.body)).toEqual([{ files }]));
  });
  test('what is refused is reported, and the texts stay', async () => {
    await show(new Problem(409, 'Production has moved again'));
    fireEvent.change(screen.getByLabelText('Merged text of staging/berth.sql'), { target: { value: 'select 4' } });
    await settle();
    expect(await screen.findByText('Production has moved again')).toBeTruthy();
    expect((screen.getByLabelText('Merged text of staging/berth.sql') as HTMLTextAreaElement).value).toBe('select 4');
  });
});
