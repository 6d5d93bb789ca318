/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { NoticeList, OutboxEntry, Reading, Receivers, SendingEntry, SendingSettings } from '@ouvrage/api/message';
import type { Person } from '@ouvrage/api/people';
import { around, Problem, renderPlace, serve } from '../../testing';

const { default: Settings } = await import('./settings');
afterEach(cleanup);

const AT = '2026-11-30T05:00:00Z' as never;
const READING: Reading = {
  channels: ['application', 'mail'],
  least: 'low',
  digest: 'at once',
  quietFrom: null,
  quietTo: null,
  zone: 'UTC',
  subscriptions: [{ kind: 'tag', value: 'port', least: 'high' }],
  mail: 'mira@saltmere.example',
};
const NOTICES: NoticeList = {
  unread: 1,
  notices: [
    {
      id: 'n1',
      kind: 'incident',
      severity: 'high',
      title: 'Incident 3 opened: core.fact_call',
      lines: ['Failing since 05:00.', '2 rows at fault.'],
      path: '/w/production/incidents/3',
      at: AT,
      readAt: null,
    },
  ],
};
const RECEIVERS: Receivers = {
  desks: [
    {
      id: 'd1',
      name: 'dues office',
      members: ['mira'],
      mail: null,
      webhook: 'https://desk.example/x',
      hasSecret: true,
    },
  ],
  people: [
    { name: 'mira', displayName: 'Mira Okafor', mail: null },
    { name: 'vera', displayName: 'Vera Lund', mail: 'vera@saltmere.example' },
  ],
  unknown: [{ owner: 'dues ofice', tables: ['a.a', 'a.b', 'a.c', 'a.d'], nearest: 'dues office' }],
};
const SENDING: SendingSettings = {
  publicAddress: 'https://warehouse.example',
  mail: { host: 'mail.example', port: 587, tls: 'starttls', user: 'u', hasPassword: true, from: 'a@b.example' },
  ranges: ['10.1.0.0/16'],
};

const show = async (section: string, { role = 'administrator' as Person['role'], answers = {} } = {}) => {
  const sent = serve({
    ...around(role),
    'GET harbour': { day: 3, date: '2026-01-03' },
    'GET reading': READING,
    'GET messages': NOTICES,
    'GET receivers': RECEIVERS,
    'GET sending': SENDING,
    'GET sendings': [],
    'GET outbox': [],
    'PUT reading': undefined,
    'PUT sending': undefined,
    ...answers,
  });
  await renderPlace(<Settings />, { at: `/w/dues/settings/${section}`, route: '/w/:ws/settings/:section?' });
  return sent;
};
const body = ({ changed }: Awaited<ReturnType<typeof show>>) => changed.at(-1)?.body;

describe('how a person is told', () => {
  test('channels, severity, digest, quiet hours and subscriptions are saved together', async () => {
    const sent = await show('messages');
    await userEvent.click(await screen.findByRole('checkbox', { name: /By mail/ }));
    await userEvent.selectOptions(screen.getByLabelText('Mail is sent'), 'day');
    await userEvent.type(screen.getByLabelText('No mail from'), '22:00');
    const save = screen.getByRole<HTMLButtonElement>('button', { name: 'Save' });
    expect(save.disabled).toBe(true);
    expect(screen.getByText('Give both, or neither')).toBeTruthy();
    await userEvent.type(screen.getByLabelText('until'), '06:30');
    await userEvent.click(screen.getByRole('button', { name: 'Add' }));
    await userEvent.type(screen.getByLabelText('Name 2'), 'core.fact_call');
    await userEvent.click(screen.getByRole('button', { name: 'Remove 1' }));
    await userEvent.click(save);
    await waitFor(() =>
      expect(body(sent)).toMatchObject({
        channels: ['application'],
        digest: 'day',
        quietFrom: '22:00',
        quietTo: '06:30',
        subscriptions: [{ kind: 'table', value: 'core.fact_call', least: 'medium' }],
      }),
    );
  });
  test('a time that is none is said', async () => {
    await show('messages');
    await userEvent.type(await screen.findByLabelText('No mail from'), '25:00');
    expect(await screen.findByText('Hours and minutes, such as 22:00')).toBeTruthy();
  });
  test('what the server refuses is said, and nothing is lost', async () => {
    await show('messages', {
      answers: { 'PUT reading': new Problem(422, 'There is no table core.fact', 'did you mean core.fact_call?') },
    });
    await userEvent.click(await screen.findByRole('button', { name: 'Add' }));
    await userEvent.type(screen.getByLabelText('Name 2'), 'core.fact');
    await userEvent.click(screen.getByRole('button', { name: 'Save' }));
    expect((await screen.findByRole('alert')).textContent).toContain('did you mean core.fact_call?');
    expect(screen.getByLabelText<HTMLInputElement>('Name 2').value).toBe('core.fact');
  });
  test('what was told is listed with a link', async () => {
    await show('messages');
    const link = await screen.findByRole('link', { name: 'Incident 3 opened: core.fact_call' });
    expect(link.getAttribute('href')).toBe('/w/production/incidents/3');
    expect(screen.getByText('1 unread')).toBeTruthy();
  });
});

describe('desks', () => {
  test('are listed with their members; an owner who is nobody is named', async () => {
    await show('desks', { role: 'viewer' });
    expect(await screen.findByText('Mira Okafor')).toBeTruthy();
    expect(screen.queryByText('https://desk.example/x')).toBeNull();
    expect(screen.getByText(/dues ofice owns a\.a, a\.b, a\.c and 1 more.*did you mean dues office\?/)).toBeTruthy();
    expect(screen.queryByText('Mail addresses')).toBeNull();
  });
  test('a new one tells the webhook’s secret once', async () => {
    const sent = await show('desks', { answers: { 'POST desks': { id: 'd2', secret: 'shh-shh' } } });
    await userEvent.click(await screen.findByRole('button', { name: 'New desk' }));
    const dialog = screen.getByRole('dialog');
    await userEvent.type(within(dialog).getByLabelText(/^Name/), 'fleet desk');
    await userEvent.click(within(dialog).getByRole('checkbox', { name: 'Vera Lund' }));
    await userEvent.type(within(dialog).getByLabelText('Webhook'), 'https://fleet.example');
    await userEvent.click(within(dialog).getByRole('button', { name: 'Save' }));
    expect(await screen.findByText('shh-shh')).toBeTruthy();
    expect(body(sent)).toEqual({ name: 'fleet desk', members: ['vera'], mail: null, webhook: 'https://fleet.example' });
  });
  test('one is deleted after a question', async () => {
    const sent = await show('desks', { answers: { 'DELETE desks/d1': undefined } });
    await userEvent.click(await screen.findByRole('button', { name: 'dues office' }));
    await userEvent.click(screen.getByRole('button', { name: 'Delete' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Delete desk' }));
    await waitFor(() => expect(sent.changed.at(-1)).toMatchObject({ method: 'DELETE', path: 'desks/d1' }));
  });
  test('a person gets a mail address', async () => {
    const sent = await show('desks', { answers: { 'PUT people/mira/mail': undefined } });
    const field = await screen.findByLabelText('Mail address of Mira Okafor');
    await userEvent.type(field, 'mira@port.example');
    await userEvent.click(within(field.closest('form')!).getByRole('button', { name: 'Save' }));
    await waitFor(() => expect(body(sent)).toEqual({ mail: 'mira@port.example' }));
  });
});

describe('sending', () => {
  test('a password that is not typed stays', async () => {
    const sent = await show('sending');
    const address = await screen.findByLabelText(/^Public address/);
    await userEvent.clear(address);
    await userEvent.type(address, 'https://new.example');
    await userEvent.click(screen.getByRole('button', { name: 'Save' }));
    const { hasPassword: _, ...mail } = SENDING.mail!;
    await waitFor(() =>
      expect(body(sent)).toEqual({ publicAddress: 'https://new.example', mail, ranges: ['10.1.0.0/16'] }),
    );
  });
  test('what was given up says why, and is tried again', async () => {
    const lost: SendingEntry = {
      id: 's1',
      channel: 'webhook',
      to: 'dues office',
      title: 'Incident 3 opened',
      state: 'given up',
      attempts: 30,
      error: 'it answered 500',
      at: AT,
      sentAt: null,
    };
    const sent = await show('sending', { answers: { 'GET sendings': [lost], 'POST sendings/s1/again': undefined } });
    const table = await screen.findByRole('table', { name: 'Messages sent' });
    expect(table.textContent).toContain('given up, tried 30 timesit answered 500');
    await userEvent.click(within(table).getByRole('button', { name: 'Try again' }));
    await waitFor(() => expect(sent.changed.at(-1)?.path).toBe('sendings/s1/again'));
  });
  test('only administrators see it', async () => {
    await show('sending', { role: 'releaser' });
    expect(await screen.findByText('This page does not exist, or your role cannot see it')).toBeTruthy();
  });
});

describe('the outbox', () => {
  const entry: OutboxEntry = {
    id: 'e1',
    channel: 'mail',
    to: 'mira@saltmere.example',
    subject: 'Incident 3 opened',
    body: '2 rows at fault.',
    repeats: 1,
    at: AT,
  };
  test('shows what would be sent', async () => {
    await show('outbox', { answers: { 'GET outbox': [entry] } });
    await userEvent.click(await screen.findByRole('button', { name: 'Incident 3 opened' }));
    expect(screen.getByRole('dialog').textContent).toContain('2 rows at fault.');
  });
  test('is the demo’s alone', async () => {
    await show('outbox', { answers: { 'GET harbour': { day: null, date: null } } });
    expect(await screen.findByText('This page does not exist, or your role cannot see it')).toBeTruthy();
  });
});
