/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve, type Answers } from '../testing';

const { ChooseByLink, ChooseOwn, FirstStart } = await import('./first-password');
afterEach(cleanup);

const type = async (label: RegExp, text: string) => {
  const field = await screen.findByLabelText(label);
  await userEvent.clear(field);
  await userEvent.type(field, text);
};
const GOOD = 'quay lantern forty';
const show = async (page: React.ReactNode, answers: Answers) => {
  const sent = serve({ ...around(), ...answers });
  await renderPlace(page);
  await screen.findByText('Ouvrage');
  return sent;
};

test('a first start makes the administrator; a wrong code is told and loses nothing', async () => {
  const answers = [new Problem(403, 'The setup code is wrong'), { person: null, csrf: null }];
  const sent = await show(<FirstStart />, { 'POST setup': () => answers.shift() });
  const start = () => userEvent.click(screen.getByRole('button', { name: 'Start' }));
  await start();
  expect(screen.getByText('Type the setup code')).toBeTruthy();
  await type(/^Setup code/, ' k3pf ');
  await type(/^Name to sign/, 'ada');
  await type(/^Your name/, 'Ada Minch');
  await type(/^New password, of/, GOOD);
  await type(/^New password again/, 'quay');
  await start();
  expect(screen.getByText('The two passwords differ')).toBeTruthy();
  expect(sent.changed).toEqual([]);
  await type(/^New password again/, GOOD);
  await start();
  expect(await screen.findByText('The setup code is wrong')).toBeTruthy();
  await start();
  expect(sent.changed.map((s) => s.body)).toEqual(
    Array(2).fill({ code: 'k3pf', name: 'ada', displayName: 'Ada Minch', password: GOOD }),
  );
});

test('a link says whose it is, and lets them choose a password', async () => {
  let isIn = false;
  const sent = await show(<ChooseByLink link="abc" onDone={() => (isIn = true)} />, {
    'POST links/look': { name: 'nils', displayName: 'Nils Aho' },
    'POST links/use': { person: null, csrf: 'y' },
  });
  expect(screen.getByText(/^Nils Aho, you sign in/).textContent).toContain('nils');
  await type(/^New password, of/, GOOD);
  await type(/^New password again/, GOOD);
  await userEvent.click(screen.getByRole('button', { name: 'Choose it and sign in' }));
  await screen.findByRole('button', { name: 'Sign in' });
  expect(isIn).toBe(true);
  expect(sent.changed.at(-1)).toMatchObject({ path: 'links/use', body: { link: 'abc', password: GOOD } });
});

test.each([
  ['used', 'abc', 'This link is not good any more'],
  ['cut off', '', 'This link is not complete'],
])('a link that is %s says so, and leads to the sign-in', async (_, link, said) => {
  let asked = false;
  await show(<ChooseByLink link={link} onDone={() => (asked = true)} />, {
    'POST links/look': new Problem(404, 'This link is not good any more'),
  });
  expect(await screen.findByText(said)).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Sign in' }));
  expect(asked).toBe(true);
});

test('who was given a password changes it before anything else', async () => {
  const sent = await show(<ChooseOwn />, { 'PUT me/password': undefined });
  await type(/^The password you were given/, 'k3pf-x');
  await type(/^New password, of/, GOOD);
  await type(/^New password again/, GOOD);
  await userEvent.click(screen.getByRole('button', { name: 'Change it' }));
  expect(sent.changed).toEqual([{ method: 'PUT', path: 'me/password', body: { present: 'k3pf-x', password: GOOD } }]);
});
