/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve } from '../testing';

const { SignIn } = await import('./sign-in');
afterEach(cleanup);

const show = async (answers: object = {}) => {
  const sent = serve({ ...around(), ...answers });
  await renderPlace(<SignIn />);
  await screen.findByLabelText(/^Name/);
  return sent;
};

test('name and password are sent', async () => {
  const sent = await show({ 'POST sign-in': { person: { name: 'jonas' }, csrf: 'y' } });
  await userEvent.type(screen.getByLabelText(/^Name/), 'jonas');
  await userEvent.type(screen.getByLabelText(/^Password/), 'saltmere{Enter}');
  await waitFor(() => expect(sent.changed.map((s) => s.body)).toEqual([{ name: 'jonas', password: 'saltmere' }]));
});

test('what is missing is said, and nothing is sent', async () => {
  const sent = await show();
  await userEvent.click(screen.getByRole('button', { name: 'Sign in' }));
  expect(await screen.findByText('Type your name')).toBeTruthy();
  expect(screen.getByText('Type your password')).toBeTruthy();
  expect(sent.changed).toEqual([]);
});

test('a wrong password is told and loses nothing', async () => {
  await show({ 'POST sign-in': new Problem(401, 'Name or password is wrong', 'Try again.') });
  await userEvent.type(screen.getByLabelText(/^Name/), 'jonas');
  await userEvent.type(screen.getByLabelText(/^Password/), 'x{Enter}');
  expect(await screen.findByText('Name or password is wrong')).toBeTruthy();
  expect((screen.getByLabelText(/^Name/) as HTMLInputElement).value).toBe('jonas');
});
