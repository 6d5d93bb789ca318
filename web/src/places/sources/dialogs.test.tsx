/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ConnectionEntry } from '@ouvrage/api/connection';
import type { Person } from '@ouvrage/api/people';
import type { CatalogAnswer, SourceSystem } from '@ouvrage/api/source';
import { around, FILES, Problem, renderPlace, serve, type Sent } from '../../testing';

const { ImportTables } = await import('./import-tables');
const { DriftSheet } = await import('./drift');
const { DropFolder } = await import('./drop-folder');
afterEach(cleanup);

const DRAFT = ({ body }: Sent) => ({
  ...(body as object),
  version: 1,
  by: 'Jonas',
  at: '2026-01-01T00:00:00Z',
  isNew: true,
});
const FILE = { path: 'sources/port.sql', before: null, after: 'create server port;' };
const connection = { id: '1', name: 'Port office', bound: [] } as unknown as ConnectionEntry;
const table = (name: string, of: object = {}) => ({
  schema: 'public',
  name,
  kind: 'table' as const,
  comment: null,
  rows: 1200,
  columns: 4,
  declared: null,
  ...of,
});
const catalog = (of: Partial<CatalogAnswer> = {}): CatalogAnswer => ({
  server: 'port',
  isBound: true,
  administrators: ['Ada'],
  tables: [
    table('berth', { declared: 'landing.berth' }),
    table('vessel', { rows: null, kind: 'view' }),
    table('stay', { comment: 'Stays of vessels', rows: 90 }),
  ],
  ...of,
});

describe('tables of a connection are declared', () => {
  const closed: boolean[] = [];
  const show = async (answers: object = {}, role: Person['role'] = 'editor') => {
    closed.length = 0;
    const sent = serve({
      ...around(role),
      'GET connections': [connection],
      'GET workspaces/dues/catalog/1': catalog(),
      'POST workspaces/dues/import': [FILE],
      'POST workspaces/dues/import/bind': undefined,
      'PUT workspaces/dues/drafts': DRAFT,
      ...answers,
    });
    await renderPlace(<ImportTables onClose={() => closed.push(true)} />);
    return sent;
  };
  const names = () => screen.getAllByRole('checkbox').map((c) => c.getAttribute('aria-label'));

  test('they are searched, sorted and chosen, and saved as drafts once they were read', async () => {
    const sent = await show();
    await screen.findByText('Stays of vessels');
    expect(names()).toEqual(['All tables shown', 'public.berth', 'public.vessel', 'public.stay']);
    await userEvent.click(screen.getByRole('button', { name: 'rows, estimated' }));
    expect(names()).toEqual(['All tables shown', 'public.berth', 'public.stay', 'public.vessel']);
    await userEvent.type(screen.getByRole('searchbox'), 'stay');
    expect(names()).toEqual(['All tables shown', 'public.stay']);
    await userEvent.click(screen.getByLabelText('All tables shown'));
    await userEvent.clear(screen.getByRole('searchbox'));
    await userEvent.click(screen.getByLabelText('public.vessel'));
    await userEvent.click(screen.getByRole('button', { name: 'Declare 2 tables' }));
    await waitFor(() =>
      expect(sent.changed.find((s) => s.path.endsWith('/import'))?.body).toEqual({
        connection: '1',
        tables: [
          { schema: 'public', name: 'vessel' },
          { schema: 'public', name: 'stay' },
        ],
      }),
    );
    await userEvent.click(await screen.findByRole('button', { name: 'Save as a draft' }));
    await waitFor(() => expect(closed).toEqual([true]));
    expect(sent.changed.find((s) => s.method === 'PUT')?.body).toMatchObject({
      path: 'sources/port.sql',
      text: FILE.after,
    });
    expect(await screen.findByText('2 tables declared')).toBeTruthy();
  });

  test.each<[string, Person['role'], boolean, string]>([
    [
      'an administrator binds it at once',
      'administrator',
      true,
      'As drafts of this workspace. Bring them in to see their rows.',
    ],
    ['another one is told who can', 'editor', false, 'An administrator still has to bind port to a connection: Ada.'],
  ])('where the server is not bound, %s', async (_, role, binds, told) => {
    const sent = await show({ 'GET workspaces/dues/catalog/1': catalog({ isBound: false }) }, role);
    await userEvent.click(await screen.findByLabelText('public.berth'));
    await userEvent.click(screen.getByRole('button', { name: 'Declare 1 table' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Save as a draft' }));
    expect(await screen.findByText(new RegExp(told))).toBeTruthy();
    expect(sent.changed.some((s) => s.path.endsWith('/bind'))).toBe(binds);
  });

  test.each<[string, object, string]>([
    ['there is no connection', { 'GET connections': [] }, 'No connections yet'],
    [
      'the system does not answer',
      { 'GET workspaces/dues/catalog/1': new Problem(502, 'db.test does not answer') },
      'db.test does not answer',
    ],
    [
      'nothing may be read',
      { 'GET workspaces/dues/catalog/1': catalog({ tables: [] }) },
      'The connection cannot read any tables',
    ],
  ])('where %s, it says so', async (_, answers, text) => {
    await show(answers);
    expect(await screen.findByText(text)).toBeTruthy();
  });
});

describe('columns that differ from the declaration', () => {
  const drift = {
    added: [{ name: 'draught', type: 'numeric' }],
    dropped: ['colour'],
    retyped: [{ name: 'length_m', declared: 'numeric(6,1)', actual: 'text' }],
  } as never;
  const show = async (answers: object, reason?: string) => {
    const sent = serve({ ...around(), 'PUT workspaces/dues/drafts': DRAFT, ...answers });
    let isClosed = false;
    await renderPlace(
      <DriftSheet
        server="port"
        table="landing.berth"
        drift={drift}
        comparedAt="2026-01-02T00:00:00Z"
        reason={reason}
        onClose={() => (isClosed = true)}
      />,
    );
    await screen.findByText('draught');
    return { sent, isClosed: () => isClosed };
  };
  test('are listed with what that means, and updated from the system', async () => {
    const { sent, isClosed } = await show({
      'POST workspaces/dues/sources/port/take-over': [{ ...FILE, before: 'x' }],
    });
    const cells = screen
      .getAllByRole('row')
      .slice(1)
      .map((r) =>
        within(r)
          .getAllByRole('cell')
          .map((c) => c.textContent),
      );
    expect(cells).toEqual([
      ['draught', 'not declared', 'numeric', 'new in the system'],
      ['colour', 'declared', 'not there', 'gone from the system'],
      ['length_m', 'numeric(6,1)', 'text', 'values may not fit'],
    ]);
    await userEvent.click(screen.getByRole('button', { name: 'Update declaration from the system' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Save as a draft' }));
    await waitFor(() => expect(isClosed()).toBe(true));
    expect(sent.changed.map((s) => s.body)[0]).toEqual({ tables: ['landing.berth'] });
  });
  test('are left where nothing would change, or where it is refused', async () => {
    await show({ 'POST workspaces/dues/sources/port/take-over': [] });
    await userEvent.click(screen.getByRole('button', { name: 'Update declaration from the system' }));
    expect(await screen.findByText('Nothing would change')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Back' }));
    expect(await screen.findByText('colour')).toBeTruthy();
    cleanup();
    const { sent } = await show({}, 'Only editors can change the project; you are a viewer.');
    await userEvent.click(screen.getByRole('button', { name: 'Update declaration from the system' }));
    expect(sent.changed).toEqual([]);
  });
});

describe('the drop folder', () => {
  const system = {
    server: 'drop',
    wrapper: 'file_fdw',
    path: 'sources/drop.sql',
    connection: null,
    tables: [
      {
        table: 'landing.rate',
        pattern: 'rates_{as_of:date}.csv',
        rows: '66',
        sameAsProduction: false,
        lateness: { late: true, since: null, allowed: '26 hours', learnedFrom: null },
      },
    ],
  } as unknown as SourceSystem;
  const show = async (role: Person['role'], answers: object = {}) => {
    const sent = serve({
      ...around(role),
      'GET deliveries': { folder: '/var/drop', files: [], more: false },
      'POST deliveries/file': undefined,
      'POST deliveries/look': undefined,
      ...answers,
    });
    await renderPlace(<DropFolder system={system} />);
    await screen.findByText(/\/var\/drop/);
    return sent;
  };
  test('tries a file’s name with the patterns of the workspace, and names files that would go elsewhere', async () => {
    const files = {
      ...FILES,
      'sources/drop.sql':
        "create server drop foreign data wrapper file_fdw;\ncreate foreign table landing.rate (as_of date, rate numeric) server drop options (pattern 'rates_{as_of:date}.csv');",
    };
    const entry = { id: 4, file: 'fees_1.csv', table: 'landing.rate', state: 'loaded', bytes: '3', rows: '1' };
    await show('viewer', {
      'GET workspaces/dues/files': { ...(around()['GET workspaces/dues/files'] as object), files },
      'GET deliveries': {
        folder: '/var/drop',
        files: [{ ...entry, rejects: '0', reason: null, at: '2026-01-01T00:00:00Z', milliseconds: 1 }],
        more: false,
      },
    });
    const section = await screen.findByRole('region', { name: 'Try a file’s name' });
    expect(await within(section).findByText(/1 file of those below would now go elsewhere/)).toBeTruthy();
    await userEvent.type(within(section).getByRole('textbox'), 'rates_20260301.csv{enter}other.csv');
    const line = (await within(section).findByText('as_of = 2026-03-01')).closest('tr')!;
    expect(line.textContent).toContain('landing.rate');
    expect(within(section).getByText('no table: no pattern takes this name')).toBeTruthy();
  });
  test('says which names are matched, and what is special about a table', async () => {
    await show('releaser');
    const line = within(screen.getByRole('list', { name: 'Tables loaded from files' })).getByRole(
      'listitem',
    ).textContent;
    for (const text of ['landing.rate', 'rates_{as_of:date}.csv', 'differs from production', 'late', '66 rows'])
      expect(line).toContain(text);
  });
  test('takes several files one after the other, and then looks', async () => {
    globalThis.File.prototype.text ??= async () => '';
    const sent = await show('releaser');
    await userEvent.upload(screen.getByLabelText('Files to deliver'), [
      new File(['a'], 'rates_2026-01-01.csv'),
      new File(['b'], 'rates_2026-01-02.csv'),
    ]);
    await waitFor(() =>
      expect(sent.changed.map((s) => s.path)).toEqual([
        'deliveries/file?name=rates_2026-01-01.csv',
        'deliveries/file?name=rates_2026-01-02.csv',
        'deliveries/look',
      ]),
    );
  });
  test('looks when asked; a failure is reported', async () => {
    await show('releaser', { 'POST deliveries/look': new Problem(503, 'The folder cannot be read') });
    await userEvent.click(screen.getByRole('button', { name: 'Look now' }));
    expect(await screen.findByText('The folder cannot be read')).toBeTruthy();
  });
  test('but not for an editor', async () => {
    const sent = await show('editor');
    await userEvent.click(screen.getByRole('button', { name: 'Look now' }));
    expect(sent.changed).toEqual([]);
  });
});
