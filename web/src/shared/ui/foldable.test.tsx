/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, expect, test } from '@jest/globals';
import { cleanup, render, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Foldable } from './foldable';

afterEach(cleanup);
beforeEach(() => localStorage.clear());

const show = (side: 'left' | 'right' = 'right') =>
  render(
    <Foldable name="Contract" side={side} width="w-84">
      <p>columns</p>
    </Foldable>,
  );

test.each(['left', 'right'] as const)(
  'a panel at the %s folds to a strip with its name, and opens again',
  async (side) => {
    show(side);
    expect(screen.getByText('columns')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Fold the contract' }));
    expect(screen.queryByText('columns')).toBeNull();
    expect(screen.getByText('Contract')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Show the contract' }));
    expect(screen.getByText('columns')).toBeTruthy();
  },
);

test('it is as it was left', async () => {
  show();
  await userEvent.click(screen.getByRole('button', { name: 'Fold the contract' }));
  cleanup();
  show();
  expect(screen.queryByText('columns')).toBeNull();
  expect(screen.getByRole('button', { name: 'Show the contract' }).getAttribute('aria-expanded')).toBe('false');
});
