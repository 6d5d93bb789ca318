/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { EditorView } from '@codemirror/view';
import { act, cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import { around, checkOf, FILES, openMenu, Problem, renderPlace, serve, type Sent } from '../../testing';

const { default: Tables } = await import('./tables');
const { store, textTyped } = await import('../../data/store');
afterEach(cleanup);
beforeEach(() => {
  for (const key of Object.keys(store.getState().interface.typed)) store.dispatch(textTyped({ key, typed: null }));
});

const DRAFT = ({ body }: Sent) => ({
  ...(body as object),
  version: 1,
  by: 'Jonas',
  at: '2026-01-01T00:00:00Z',
  isNew: false,
});
const ROWS = {
  columns: [{ name: 'berth_code', type: 'text' }],
  rows: [['NQ-1'], ['NQ-2']],
  total: 22,
  milliseconds: 12,
  sql: 'select berth_code from landing.berth',
  inlined: ['staging.berth'],
  isFull: false,
};
const ALL_FILES: Readonly<Record<string, string>> = {
  ...FILES,
  'parameters.sql': "set param.since = '2026-01-01';",
  'docs/berths.md': '# Berths\n\nSee [[core.dim_berth]].\n',
  'adhoc/longest.sql': 'select berth_code from landing.berth order by length_m desc limit 1',
};

const show = async (path: string, { role = 'editor' as Person['role'], slug = 'dues', answers = {} } = {}) => {
  const files = { ...(around(role, slug)[`GET workspaces/${slug}/files`] as object), files: ALL_FILES };
  const sent = serve({
    ...around(role, slug),
    [`GET workspaces/${slug}/files`]: files,
    [`PUT workspaces/${slug}/drafts`]: DRAFT,
    [`POST workspaces/${slug}/validate`]: [],
    [`GET workspaces/${slug}/history`]: [],
    ...answers,
  });
  await renderPlace(<Tables />, {
    at: `/w/${slug}/${path}`,
    route: path.startsWith('files/') ? '/w/:ws/files/*' : '/w/:ws/tables/:table?/:facet?',
  });
  return sent;
};
const editor = async () => {
  await waitFor(() => expect(document.querySelector('.cm-editor')).toBeTruthy());
  return EditorView.findFromDOM(document.querySelector<HTMLElement>('.cm-editor')!)!;
};
const write = async (text: string) => {
  const view = await editor();
  act(() => view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } }));
};
const problems = () => screen.findByRole('list', { name: 'Problems' });

describe('a definition is edited', () => {
  test('what is wrong is listed with its place, and the name that was meant is put in by one click', async () => {
    await show('tables/staging.berth');
    await write('select b.berth_cod from landing.berth b');
    const list = await problems();
    await waitFor(() => expect(list.textContent).toContain('1:8b has no column berth_cod did you mean berth_code?'));
    expect(list.textContent).toContain('This edit causes 2 errors in 1 other definition: core/dim_berth.sql:6');
    await userEvent.click(within(list).getByRole('button', { name: 'Replace with berth_code' }));
    await waitFor(async () =>
      expect((await editor()).state.doc.toString()).toBe('select b.berth_code from landing.berth b'),
    );
  });

  test('an owner who is neither a desk nor a person is a warning with the nearest', async () => {
    const desk = { id: 'd', name: 'harbour master', members: [], mail: null, webhook: null, hasSecret: false };
    await show('tables/core.dim_berth', { answers: { 'GET receivers': { desks: [desk], people: [], unknown: [] } } });
    await write(
      FILES['core/dim_berth.sql']!.replace(
        "business_key = 'berth_code'",
        "business_key = 'berth_code', owner = 'harbor master'",
      ),
    );
    const list = await problems();
    await waitFor(() =>
      expect(list.textContent).toContain(
        'option owner: harbor master is neither a desk nor a person did you mean harbour master?',
      ),
    );
  });

  test('it is unsaved until it is saved as a draft', async () => {
    const sent = await show('tables/staging.berth');
    await write('select berth_code, length_m from landing.berth where length_m > 0');
    expect(await screen.findByText('unsaved')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Save draft' }));
    await waitFor(() =>
      expect(sent.changed.find((s) => s.method === 'PUT')?.body).toMatchObject({
        path: 'staging/berth.sql',
        version: 0,
        text: 'select berth_code, length_m from landing.berth where length_m > 0',
      }),
    );
    await waitFor(() => expect(screen.queryByText('unsaved')).toBeNull());
  });

  test('what is typed is discarded after a question', async () => {
    await show('tables/staging.berth');
    await write('select 1 as one');
    await userEvent.click(await screen.findByRole('button', { name: 'Discard' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Discard draft' }));
    await waitFor(async () => expect((await editor()).state.doc.toString()).toBe(FILES['staging/berth.sql']));
  });

  test.each<[string, RegExp | string, string]>([
    ['theirs', 'Use theirs', 'select 2 as two'],
    ['mine', 'Use mine', 'select 1 as one'],
    ['both, put together', 'Save the text below', 'select 1 as one'],
  ])('two people edit one file, and %s is kept', async (_, button, text) => {
    let first = true;
    const sent = await show('tables/staging.berth', {
      answers: {
        'PUT workspaces/dues/drafts': (asked: Sent) => {
          if (!first) return DRAFT(asked);
          first = false;
          return new Problem(409, 'changed', undefined, {
            code: 'draft-conflict',
            theirs: 'select 2 as two',
            by: 'Mira',
            version: 3,
          });
        },
      },
    });
    await write('select 1 as one');
    await userEvent.click(await screen.findByRole('button', { name: 'Save draft' }));
    await screen.findByText('staging/berth.sql was changed by Mira in the meantime');
    await userEvent.click(screen.getByRole('button', { name: button }));
    await waitFor(() =>
      expect(sent.changed.findLast((s) => s.method === 'PUT')?.body).toMatchObject({ text, version: 3 }),
    );
    await waitFor(() => expect(screen.queryByText(/in the meantime/)).toBeNull());
  });

  test.each<[string, Person['role'], string, string]>([
    ['by a viewer', 'viewer', 'dues', 'Only editors can change definitions; you are a viewer'],
    ['in production', 'editor', 'production', 'Production changes only through releases'],
  ])('but not %s', async (_, role, slug, why) => {
    await show('tables/staging.berth', { role, slug });
    expect(await screen.findByText(new RegExp(why))).toBeTruthy();
    expect((await editor()).state.readOnly).toBe(true);
    expect(screen.queryByRole('button', { name: 'Save draft' })).toBeNull();
  });
});

describe('a preview', () => {
  test('shows rows, how many there are and the SQL that ran', async () => {
    const sent = await show('tables/staging.berth', { answers: { 'POST workspaces/dues/preview': ROWS } });
    await editor();
    await userEvent.click(screen.getByRole('button', { name: 'Preview' }));
    expect(await screen.findByText('NQ-2')).toBeTruthy();
    expect(screen.getByText(/first 2 of 22 rows, 12 ms/)).toBeTruthy();
    expect(screen.getByText(/from drafts of staging.berth/)).toBeTruthy();
    expect(sent.changed.find((s) => s.path.endsWith('/preview'))?.body).toMatchObject({
      path: 'staging/berth.sql',
      limit: 500,
    });
    await userEvent.click(screen.getByRole('button', { name: 'SQL that ran' }));
    expect((await screen.findByLabelText('SQL that ran')).textContent).toContain('from landing.berth');
  });
  test.each<[string, unknown, string]>([
    ['without rows', { ...ROWS, rows: [], total: 0 }, 'The query returns no rows'],
    [
      'that is cut short',
      { ...ROWS, total: null, isFull: true },
      'first 2 rows, more not counted, 12 ms, as many as one answer holds',
    ],
    [
      'of all rows',
      { ...ROWS, total: 2, inlined: [], sampled: 'landing.berth' },
      'all 2 rows, 12 ms, from a sample of landing.berth',
    ],
    [
      'that fails',
      new Problem(422, 'division by zero', undefined, { code: 'query-failed', error: { message: 'x' } }),
      'division by zero',
    ],
  ])('%s says so', async (_, answer, text) => {
    await show('tables/staging.berth', { answers: { 'POST workspaces/dues/preview': answer } });
    await editor();
    await userEvent.click(screen.getByRole('button', { name: 'Preview' }));
    await waitFor(() => expect(document.body.textContent).toContain(text));
  });
});

describe('a table is run', () => {
  const RUN = { 'POST workspaces/dues/runs': { id: 9 } };
  test.each<[string, string | undefined, object]>([
    ['with what it needs', undefined, { upstream: true, downstream: false }],
    ['with what it feeds', 'with what it feeds', { upstream: false, downstream: true }],
    ['with both', 'with both', { upstream: true, downstream: true }],
    ['alone', 'alone', { upstream: false, downstream: false }],
  ])('%s', async (_, choice, body) => {
    const sent = await show('tables/core.dim_berth', { answers: RUN });
    await editor();
    if (choice === undefined) await userEvent.click(screen.getByRole('button', { name: 'Run table' }));
    else {
      openMenu('How much to run');
      await userEvent.click(await screen.findByRole('menuitem', { name: choice }));
    }
    await waitFor(() =>
      expect(sent.changed.find((s) => s.path.endsWith('/runs'))?.body).toMatchObject({
        tables: ['core.dim_berth'],
        ...body,
      }),
    );
  });
  test('with other parameters', async () => {
    const sent = await show('tables/core.dim_berth', { answers: RUN });
    await editor();
    openMenu('How much to run');
    await userEvent.click(await screen.findByRole('menuitem', { name: 'with other parameters …' }));
    const field = await screen.findByLabelText('param.since');
    await userEvent.clear(field);
    await userEvent.type(field, '2026-02-01');
    await userEvent.click(screen.getByRole('button', { name: 'Run' }));
    await waitFor(() =>
      expect(sent.changed.find((s) => s.path.endsWith('/runs'))?.body).toMatchObject({
        parameters: { since: '2026-02-01' },
      }),
    );
  });
  test('over again, after a question', async () => {
    const sent = await show('tables/core.dim_berth', { answers: RUN });
    await editor();
    openMenu('How much to run');
    await userEvent.click(await screen.findByRole('menuitem', { name: 'starting over …' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Start over' }));
    await waitFor(() =>
      expect(sent.changed.find((s) => s.path.endsWith('/runs'))?.body).toMatchObject({ startOver: ['core.dim_berth'] }),
    );
  });
  test('not by a viewer, who is told why', async () => {
    const sent = await show('tables/core.dim_berth', { role: 'viewer' });
    await editor();
    await userEvent.click(screen.getByRole('button', { name: 'Run table' }));
    expect(sent.changed).toEqual([]);
    expect(screen.queryByRole('button', { name: 'How much to run' })).toBeNull();
  });
});

describe('the other faces of a table', () => {
  test('its checks, the broken one first', async () => {
    const checks = [
      checkOf('core.dim_berth/a', { title: 'a holds' }),
      checkOf('core.dim_berth/b', { title: 'b is broken', verdict: 'broken', atFault: '2' }),
    ];
    await show('tables/core.dim_berth/checks', {
      answers: {
        'GET workspaces/dues/state': { tables: [], checks },
        'GET workspaces/dues/checks/core.dim_berth%2Fb': [],
      },
    });
    const list = await screen.findByRole('list', { name: 'Checks of core.dim_berth' });
    expect(within(list).getAllByRole('listitem').length).toBeGreaterThan(0);
  });
  test('none where nothing is checked', async () => {
    await show('tables/staging.berth/checks');
    expect(await screen.findByText('No checks yet')).toBeTruthy();
  });
  test('the SQL that loads it, in two forms', async () => {
    const sent = await show('tables/core.dim_berth/load', { answers: { 'GET workspaces/dues/script': '-- the load' } });
    expect((await screen.findByLabelText('SQL that loads core.dim_berth')).textContent).toContain('-- the load');
    await userEvent.selectOptions(screen.getByLabelText('Form'), 'procedures');
    await userEvent.click(screen.getByLabelText(/with what it needs/));
    await waitFor(() =>
      expect(sent.read.at(-1)?.path).toMatch(/upstream=true.*form=procedures|form=procedures.*upstream=true/),
    );
    const save = screen.getByRole('link', { name: 'Save' }) as HTMLAnchorElement;
    expect(save.download).toBe('core.dim_berth.procedures.sql');
  });
  test('its past: commits and loads', async () => {
    await show('tables/core.dim_berth/past', {
      answers: {
        'GET workspaces/dues/history': [
          { id: 'abcdef0123', message: 'Berths\n\nmore', author: 'Mira', at: '2026-01-02T00:00:00Z' },
        ],
        'GET workspaces/dues/files/at': { text: 'select 1', before: '' },
        'GET workspaces/dues/loads': [
          {
            run: 3,
            state: 'done',
            rowsIn: '22',
            rowsOut: null,
            counts: { inserted: 3, changed: 0 },
            startedAt: '2026-01-02T00:00:00Z',
            finishedAt: '2026-01-02T00:00:02Z',
            error: null,
            environment: 'dues',
            commit: 'abcdef0123',
            kind: 'build',
            person: 'Mira',
          },
        ],
      },
    });
    expect(await screen.findByRole('button', { name: /^Berths/ })).toBeTruthy();
    const loads = await screen.findByRole('region', { name: 'Loads' });
    await waitFor(() => expect(loads.textContent).toContain('2.0 s'));
    expect(within(loads).getByRole('link', { name: '3' }).getAttribute('href')).toBe('/w/dues/runs/3');
  });
  test.each([
    ['a table that is not there', 'tables/core.nothing', 'There is no table core.nothing here'],
    ['a view that is not there', 'tables/core.dim_berth/x', 'This view does not exist'],
    ['a file that is not there', 'files/staging/no.sql', 'There is no file staging/no.sql'],
  ])('%s', async (_, path, text) => {
    await show(path);
    expect(await screen.findByText(text)).toBeTruthy();
  });
});

describe('files that are no tables', () => {
  test('a note is read, with its tables as links, and edited', async () => {
    await show('files/docs/berths.md');
    expect((await screen.findByRole('link', { name: 'core.dim_berth' })).getAttribute('href')).toBe(
      '/w/dues/tables/core.dim_berth',
    );
    await userEvent.click(screen.getByRole('button', { name: 'Edit' }));
    expect((await editor()).state.doc.toString()).toContain('# Berths');
  });
  test('an ad hoc query is previewed', async () => {
    await show('files/adhoc/longest.sql', { answers: { 'POST workspaces/dues/preview': ROWS } });
    await editor();
    await userEvent.click(screen.getByRole('button', { name: 'Preview' }));
    expect(await screen.findByText('NQ-1')).toBeTruthy();
  });
});
