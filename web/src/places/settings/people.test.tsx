/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import type { Account, OwnSession } from '@ouvrage/api/people';
import { cleanup, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, PEOPLE, Problem, renderPlace, serve } from '../../testing';

const { People } = await import('./people');
const { Password } = await import('./password');
const { Sessions, browserOf } = await import('./sessions');
afterEach(cleanup);

const account = (of: Partial<Account> = {}): Account => ({
  ...PEOPLE.editor,
  state: 'active',
  lastSignInAt: '2026-01-02T03:04:00Z',
  linkEndsAt: null,
  ...of,
});
const ALL: readonly Account[] = [
  account({ ...PEOPLE.administrator }),
  account(),
  account({
    name: 'nils',
    displayName: 'Nils',
    state: 'link issued',
    lastSignInAt: null,
    linkEndsAt: '2026-01-09T00:00:00Z',
  }),
  account({ name: 'ines', displayName: 'Ines', state: 'password issued', lastSignInAt: null }),
  account({ name: 'old', displayName: 'Olga', state: 'disabled' }),
];
const show = async (answers: object = {}) => {
  const sent = serve({
    ...around('administrator'),
    'GET people': ALL,
    'GET session-limits': { idleHours: 24, days: 7 },
    ...answers,
  });
  await renderPlace(<People />);
  await screen.findByRole('table', { name: 'People' });
  return sent;
};
const dialog = () => within(screen.getByRole('dialog'));
const click = (name: string, of = dialog()) => userEvent.click(of.getByRole('button', { name }));

describe('people', () => {
  test('each with a role, whether they can sign in, and when they last did', async () => {
    await show();
    const rows = [...screen.getByRole('table', { name: 'People' }).querySelectorAll('tbody tr')].map(
      (r) => r.textContent,
    );
    expect(rows).toEqual([
      expect.stringMatching(/^Adaadminadministratorcan sign in2026-01-02 /),
      expect.stringMatching(/^Jonasjonaseditorcan sign in/),
      expect.stringMatching(/^Nilsnilseditorhas not used the link yet, good until 2026-01-09.*never$/),
      'Inesineseditorhas not chosen a password yetnever',
      expect.stringMatching(/^Olgaoldeditordisabled/),
    ]);
  });

  test.each([
    ['link', /a link/, 'abc', 'http://localhost/welcome#abc'],
    ['password', /a first password/, 'k3pf-x', 'k3pf-x'],
  ] as const)('one is added, and the %s is shown once', async (kind, choice, secret, shown) => {
    const sent = await show({ 'POST people': { kind, secret, endsAt: null } });
    await userEvent.click(screen.getByRole('button', { name: 'Add a person' }));
    await click('Add');
    expect(dialog().getByText(/^Use small letters/)).toBeTruthy();
    expect(sent.changed).toEqual([]);
    await userEvent.type(dialog().getByLabelText(/^Name, as/), ' Vera Holm ');
    await userEvent.type(dialog().getByLabelText(/^Name to sign/), 'holm');
    await userEvent.click(dialog().getByRole('radio', { name: /^releaser/ }));
    await userEvent.click(dialog().getByRole('radio', { name: choice }));
    await click('Add');
    expect(await dialog().findByText(shown)).toBeTruthy();
    expect(sent.changed.map((s) => s.body)).toEqual([
      { displayName: 'Vera Holm', name: 'holm', role: 'releaser', issue: kind },
    ]);
  });

  test('a refusal is told, and what was typed stays', async () => {
    await show({ 'POST people': new Problem(409, 'The name holm is taken', 'Choose another one.') });
    await userEvent.click(screen.getByRole('button', { name: 'Add a person' }));
    await userEvent.type(dialog().getByLabelText(/^Name, as/), 'Vera Holm');
    await userEvent.type(dialog().getByLabelText(/^Name to sign/), 'holm');
    await click('Add');
    expect(await dialog().findByText('The name holm is taken')).toBeTruthy();
    expect((dialog().getByLabelText(/^Name to sign/) as HTMLInputElement).value).toBe('holm');
  });

  test('a role is changed, somebody is disabled after a question, and let in again', async () => {
    const sent = await show({ 'PUT people/jonas': account(), 'PUT people/old': account() });
    const open = (name: string) => userEvent.click(screen.getByRole('button', { name }));
    await open('Jonas');
    expect((dialog().getByRole('button', { name: 'Save' }) as HTMLButtonElement).disabled).toBe(true);
    await userEvent.click(dialog().getByRole('radio', { name: /^releaser/ }));
    await click('Save');
    await screen.findByText('Jonas, releaser');
    await open('Jonas');
    await click('Disable');
    await userEvent.click(within(await screen.findByRole('alertdialog')).getByRole('button', { name: 'Disable' }));
    await screen.findByText('Jonas may not sign in any more');
    await open('Olga');
    expect(dialog().queryByText('Reset the password')).toBeNull();
    await click('Let them sign in again');
    await screen.findByText('Olga, editor');
    const { role, displayName } = PEOPLE.editor;
    expect(sent.changed.map(({ path, body }) => [path, body])).toEqual([
      ['people/jonas', { displayName, role: 'releaser', disabled: false }],
      ['people/jonas', { displayName, role, disabled: true }],
      ['people/old', { displayName: 'Olga', role, disabled: false }],
    ]);
  });

  test('a password is reset; one’s own is not, and nobody disables themselves', async () => {
    const sent = await show({ 'POST people/jonas/reset': { kind: 'link', secret: 'xyz', endsAt: null } });
    await userEvent.click(screen.getByRole('button', { name: 'Jonas' }));
    await click('Reset the password');
    expect(await dialog().findByText('http://localhost/welcome#xyz')).toBeTruthy();
    await userEvent.keyboard('{Escape}');
    await userEvent.click(screen.getByRole('button', { name: 'Ada' }));
    await click('Disable');
    await click('Reset the password');
    expect(screen.queryByRole('alertdialog')).toBeNull();
    expect(sent.changed).toEqual([{ method: 'POST', path: 'people/jonas/reset', body: { issue: 'link' } }]);
  });

  test('when sessions end', async () => {
    const sent = await show({ 'PUT session-limits': undefined });
    const hours = await screen.findByLabelText('Hours without use');
    await userEvent.clear(hours);
    await userEvent.type(hours, '0');
    expect(await screen.findByText('Enter a whole number from 1 to 2160')).toBeTruthy();
    await userEvent.clear(hours);
    await userEvent.type(hours, '8');
    await userEvent.click(screen.getByRole('button', { name: 'Save' }));
    await screen.findByText('Sessions that are older have ended');
    expect(sent.changed.map((s) => s.body)).toEqual([{ idleHours: 8, days: 7 }]);
  });
});

test('one’s own password is changed, typed twice', async () => {
  const sent = serve({ ...around(), 'PUT me/password': undefined });
  await renderPlace(<Password />);
  await userEvent.type(await screen.findByLabelText('Present password'), 'saltmere');
  await userEvent.type(screen.getByLabelText(/^New password, of/), 'quay lantern');
  await userEvent.type(screen.getByLabelText('New password again'), 'quay');
  await userEvent.click(screen.getByRole('button', { name: 'Change password' }));
  expect(await screen.findByText('The two passwords differ')).toBeTruthy();
  expect(sent.changed).toEqual([]);
  await userEvent.type(screen.getByLabelText('New password again'), ' lantern');
  await userEvent.click(screen.getByRole('button', { name: 'Change password' }));
  expect(await screen.findByText('Your other sessions have ended')).toBeTruthy();
  expect(sent.changed.map((s) => s.body)).toEqual([{ present: 'saltmere', password: 'quay lantern' }]);
});

const LINUX = 'Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0';

test('one sees where one is signed in, and ends other sessions', async () => {
  const session = (number: string, isThis: boolean): OwnSession => ({
    ...{ number, isThis, agent: LINUX, address: '127.0.0.1' },
    begunAt: '2026-01-01T00:00:00Z',
    usedAt: '2026-01-02T00:00:00Z',
  });
  const sent = serve({
    ...around(),
    'GET me/sessions': [session('one', true), session('two', false)],
    'GET session-limits': { idleHours: 24, days: 1 },
    'DELETE me/sessions/two': undefined,
  });
  await renderPlace(<Sessions />);
  expect(await screen.findAllByText('Firefox on Linux')).toHaveLength(2);
  expect(screen.getByText('end after 24 hours without use, and after 1 day')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'End' }));
  expect(sent.changed.map((s) => s.path)).toEqual(['me/sessions/two']);
});

test.each([
  [LINUX, 'Firefox on Linux'],
  [
    'Mozilla/5.0 (Windows NT 10.0) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0 Safari/537.36 Edg/140.0',
    'Edge on Windows',
  ],
  [
    'Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15) AppleWebKit/605.1 (KHTML, like Gecko) Version/18.0 Safari/605.1',
    'Safari on macOS',
  ],
  ['curl/8.0', 'A program'],
])('%s', (agent, called) => expect(browserOf(agent)).toBe(called));
