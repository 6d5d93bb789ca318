/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { AuditEntry } from '@ouvrage/api/people';
import { around, Problem, renderPlace, serve, type Sent } from '../../testing';

const { AuditLog } = await import('./audit');
const { ConnectionForm } = await import('./connection-form');
const { You } = await import('./you');
afterEach(cleanup);

describe('access tokens', () => {
  const TOKEN = {
    id: 't1',
    label: 'laptop',
    rights: ['read', 'run'],
    createdAt: '2026-01-01T00:00:00Z',
    expiresAt: '2026-01-02T00:00:00Z',
    lastUsedAt: null,
  };
  test('one is made, shown once, and deleted after a question', async () => {
    const sent = serve({
      ...around(),
      'GET tokens': [TOKEN],
      'POST tokens': { id: 't2', token: 'secret-token' },
      'DELETE tokens/t1': undefined,
    });
    await renderPlace(<You />);
    const make = await screen.findByRole('button', { name: 'Create token' });
    expect((make as HTMLButtonElement).disabled).toBe(true);
    const row = (await screen.findByRole('table', { name: 'Access tokens' })).querySelector('tbody tr')!;
    expect(row.textContent).toMatch(/^laptopread, run.*ended .* agoDelete$/);
    await userEvent.type(screen.getByRole('textbox', { name: 'What the token is for' }), ' desk ');
    await userEvent.click(screen.getByRole('checkbox', { name: /^write/ }));
    await userEvent.click(screen.getByRole('checkbox', { name: /^release/ }));
    const days = screen.getByRole('textbox', { name: 'Days until it ends' });
    await userEvent.clear(days);
    await userEvent.type(days, '400');
    expect(await screen.findByText('Enter a whole number from 1 to 365')).toBeTruthy();
    await userEvent.clear(days);
    await userEvent.type(days, '7');
    await userEvent.click(make);
    expect(await screen.findByText('secret-token')).toBeTruthy();
    await userEvent.click(await screen.findByRole('button', { name: 'Delete' }));
    await userEvent.click(
      within(await screen.findByRole('alertdialog')).getByRole('button', { name: 'Delete the token' }),
    );
    expect(sent.changed).toEqual([
      { method: 'POST', path: 'tokens', body: { label: 'desk', rights: ['read', 'release'], days: 7 } },
      { method: 'DELETE', path: 'tokens/t1', body: undefined },
    ]);
  });
  test('how one’s own git reaches the project', async () => {
    serve({ ...around(), 'GET tokens': [] });
    await renderPlace(<You />);
    expect((await screen.findByText(/git clone/)).textContent).toContain(
      'jonas@localhost/git/project.git\ngit push origin HEAD:workspace/dues',
    );
    expect(screen.getByText('You have no tokens.')).toBeTruthy();
  });
  test('the theme is chosen', async () => {
    serve({ ...around(), 'GET tokens': [] });
    await renderPlace(<You />);
    await userEvent.click(await screen.findByRole('radio', { name: 'Blueprint (dark)' }));
    expect(screen.getByRole('radio', { name: 'Blueprint (dark)' }).getAttribute('aria-checked')).toBe('true');
  });
});

describe('the log', () => {
  const entry = (id: number, of: Partial<AuditEntry> = {}): AuditEntry => ({
    id: String(id),
    at: '2026-01-01T00:00:00Z',
    person: 'mira',
    action: 'commit',
    subject: 'dues',
    detail: null,
    ...of,
  });
  test('entries have their details, and older ones are asked for behind the last', async () => {
    const full = Array.from({ length: 100 }, (_, i) =>
      entry(200 - i, { detail: { files: ['a.sql', 'b.sql'], none: null } }),
    );
    const sent = serve({
      ...around('administrator'),
      'GET audit': ({ path }: Sent) => (path.includes('before=101') ? [entry(7, { action: 'push' })] : full),
    });
    await renderPlace(<AuditLog />);
    expect((await screen.findAllByText('files a.sql, b.sql')).length).toBe(100);
    await userEvent.click(screen.getByRole('button', { name: 'Older entries' }));
    expect(await screen.findByText('push')).toBeTruthy();
    await userEvent.type(screen.getByRole('searchbox'), 'x');
    await waitFor(() => expect(sent.read.some((r) => r.path.includes('text=x'))).toBe(true));
  });
  test.each<[string, unknown, string]>([
    ['nothing', [], 'The log is empty'],
    ['an error', new Problem(403, 'This needs the role administrator'), 'This needs the role administrator'],
  ])('%s', async (_, answer, text) => {
    serve({ ...around('administrator'), 'GET audit': answer });
    await renderPlace(<AuditLog />);
    expect(await screen.findByText(text)).toBeTruthy();
  });
});

describe('a new connection', () => {
  const fill = async (fields: Readonly<Record<string, string>>) => {
    for (const [label, value] of Object.entries(fields)) {
      const field = screen.getByLabelText(label);
      await userEvent.clear(field);
      if (value) await userEvent.type(field, value);
    }
  };
  const SOUND = { Name: 'Port', Host: 'db.test', Port: '5433', Database: 'port', User: 'reader', Password: 'x' };
  const show = async (answers: object = {}) => {
    const sent = serve({ ...around('administrator'), ...answers });
    let closed = 0;
    await renderPlace(<ConnectionForm connection={undefined} onClose={() => closed++} />);
    await screen.findByRole('dialog');
    return { sent, closed: () => closed };
  };
  test.each<[string, string, string]>([
    ['Name', '', 'Type a name'],
    ['Host', '', 'Type the machine’s name or address'],
    ['Port', '0', '1 or more'],
    ['Port', '70000', '65535 at most'],
    ['Port', '5x', 'a number'],
    ['Database', '', 'Type the database’s name'],
    ['User', '', 'Type the database’s user'],
    ['Password', '', 'Type the password'],
  ])('%s “%s” is refused where it is typed', async (label, value, message) => {
    const { sent } = await show();
    await fill({ ...SOUND, [label]: value });
    await userEvent.click(screen.getByRole('button', { name: 'Save' }));
    const field = await waitFor(() => {
      expect(screen.getByText(message)).toBeTruthy();
      return screen.getByLabelText(label);
    });
    expect(field.getAttribute('aria-invalid')).toBe('true');
    expect(sent.changed).toEqual([]);
  });
  test.each<[string, object, string]>([
    ['works', { ok: true, version: '15.8', tables: 1 }, 'It works: PostgreSQL 15.8, 1 table to read.'],
    [
      'does not',
      { ok: false, part: 'password', message: 'The password is wrong', remedy: 'Type it again.' },
      'Type it again.',
    ],
  ])('is tried before it is saved, and says that it %s', async (_, answer, text) => {
    const { sent, closed } = await show({ 'POST connections/test': answer, 'POST connections': { id: '1' } });
    await fill(SOUND);
    await userEvent.click(screen.getByRole('button', { name: 'Test' }));
    expect(await screen.findByText(text)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Save' }));
    await waitFor(() => expect(closed()).toBe(1));
    const body = {
      name: 'Port',
      host: 'db.test',
      port: 5433,
      database: 'port',
      user: 'reader',
      password: 'x',
      tls: 'verified',
    };
    expect(sent.changed).toEqual([
      { method: 'POST', path: 'connections/test', body: expect.objectContaining(body) },
      { method: 'POST', path: 'connections', body },
    ]);
  });
});
