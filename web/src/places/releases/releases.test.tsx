/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import type { Comparison } from '@ouvrage/api/release';
import { around, checkOf, Problem, renderPlace, runOf, serve } from '../../testing';

const { default: Releases } = await import('./releases');
const { conditionsOf } = await import('./release-panel');
afterEach(cleanup);

const CHANGED = {
  table: 'core.dim_berth',
  kind: 'changed' as const,
  columnsAdded: ['length_m'],
  columnsDropped: [],
  columnsRenamed: [],
  columnsRetyped: [],
};
const NONE = { broken: 0, advisory: 0, 'not run': 0, holds: 0 };
const COMPARISON: Comparison = {
  workspace: { slug: 'dues', name: 'Dues', owner: 'Jonas' },
  commits: [{ id: 'c1', author: 'Jonas', at: '2026-01-01T00:00:00Z', message: 'Berths have a length\n\nIn metres.' }],
  drafts: [],
  conflicts: [],
  errors: [],
  files: [{ path: 'core/dim_berth.sql', kind: 'changed', draft: false }],
  tables: [CHANGED, { ...CHANGED, table: 'core.fact_call', kind: 'downstream' }],
  losses: [],
  migrations: [],
  rehashes: [],
  untouched: 1,
  impact: { breaks: [], values: [], rows: [] },
  freed: [],
  withdraws: [],
  restores: null,
  keptDays: 7,
  holdsWithdrawn: [],
  cost: { seconds: 1.25, untimed: 0, bytes: 12_400_000, free: 3_210_000_000 },
  checks: [],
  verdicts: NONE,
};

describe('what has to be so before a release', () => {
  const first = { path: 'core/x.sql', message: 'there is no column x' };
  test.each<[string, Partial<Comparison>, string]>([
    ['errors', { errors: [first, first] }, 'broken: 2 errors: there is no column x'],
    ['conflicts', { conflicts: [{ path: 'x' } as never] }, 'broken: 1 file in conflict with production'],
    ['drafts', { drafts: ['core/x.sql'] }, 'broken: 1 draft not committed'],
    ['a broken check', { verdicts: { ...NONE, broken: 1 } }, 'broken: 1 check broken in the workspace'],
    ['advisory checks', { verdicts: { ...NONE, advisory: 1 } }, 'advisory: 1 advisory'],
    ['checks that hold', { verdicts: { ...NONE, holds: 2 } }, 'holds: 2 checks hold in the workspace'],
    ['checks not run', { verdicts: { ...NONE, 'not run': 1 } }, 'not run: 1 check not run here; the release runs them'],
    [
      'dropped tables and columns',
      {
        tables: [
          { ...CHANGED, kind: 'deleted' },
          { ...CHANGED, table: 'core.b', columnsDropped: ['x'] },
        ],
      },
      'advisory: Dropped: core.dim_berth, core.b.x',
    ],
    ['freed columns', { freed: ['core.b.x'] }, 'advisory: No longer sensitive, so viewers see: core.b.x'],
    ['nothing', {}, 'holds: Nothing is dropped'],
  ])('%s', (_, of, expected) =>
    expect(conditionsOf({ ...COMPARISON, ...of }).map((c) => `${c.verdict}: ${c.text}`)).toContain(expected),
  );
});

const show = async (comparison: unknown, role: Person['role'] = 'releaser', answers: object = {}) => {
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/comparison': comparison,
    'GET workspaces/dues/comparison/file': { before: 'select 1', after: 'select 2' },
    'GET releases': [],
    ...answers,
  });
  await renderPlace(<Releases />);
  return sent;
};

describe('a review', () => {
  test('names what changed, what is loaded again, and what is not touched', async () => {
    await show(COMPARISON);
    const index = await screen.findByRole('complementary', { name: 'Review' });
    expect(index.textContent).toContain('dues → production1 commit, 0 drafts, opened by Jonas');
    expect(index.textContent).toContain('new: length_m');
    expect(index.textContent).toContain('1 table reads nothing that changed');
  });
  test('says what the changes mean elsewhere', async () => {
    const breaks = [{ path: 'core/fact_call.sql', line: 3, column: 8, message: 'there is no column x' }];
    const values = [{ table: 'core.fact_call', column: 'length_m' }];
    await show({ ...COMPARISON, impact: { breaks, values, rows: ['core.fact_call'] } });
    const note = await screen.findByRole('region', { name: 'What the changes mean elsewhere' });
    expect(note.textContent).toContain(
      'The changes cause 1 error in 1 other definition: core/fact_call.sql:3, there is no column x',
    );
    expect(note.textContent).toContain('Values may change in core.fact_call.length_mRows may change in core.fact_call');
  });
  test('is released with the first line of the last commit, and leads to its run', async () => {
    const sent = await show(COMPARISON, 'releaser', { 'POST workspaces/dues/release': { id: 12 } });
    await userEvent.click(await screen.findByRole('button', { name: 'Release to production' }));
    expect(sent.changed).toEqual([
      {
        method: 'POST',
        path: 'workspaces/dues/release',
        body: { message: 'Berths have a length', consents: [], treatments: {} },
      },
    ]);
    await waitFor(() => expect(screen.getByLabelText('address').textContent).toBe('/w/dues/runs/12'));
  });
  test('that is refused says why and loses nothing', async () => {
    await show(COMPARISON, 'releaser', {
      'POST workspaces/dues/release': new Problem(409, 'Another release came first', 'Release again.'),
    });
    await userEvent.type(await screen.findByRole('textbox', { name: 'Release message' }), ', measured');
    await userEvent.click(screen.getByRole('button', { name: 'Release to production' }));
    expect(await screen.findByText('Another release came first')).toBeTruthy();
    expect((screen.getByRole('textbox', { name: 'Release message' }) as HTMLTextAreaElement).value).toBe(
      'Berths have a length, measured',
    );
  });
  test.each<[string, Person['role'], Partial<Comparison>]>([
    ['a role below releaser', 'editor', {}],
    ['errors', 'releaser', { errors: [{ path: 'x', message: 'y' }] }],
    [
      'something dropped for good that is not confirmed',
      'releaser',
      { losses: [{ of: 'core.old', kind: 'table' } as never] },
    ],
  ])('%s keeps it from being released', async (_, role, of) => {
    const sent = await show({ ...COMPARISON, ...of }, role);
    const button = await screen.findByRole('button', { name: 'Release to production' });
    expect(button.getAttribute('aria-disabled')).toBe('true');
    await userEvent.click(button);
    expect(sent.changed).toEqual([]);
  });
  test('drafts are committed first', async () => {
    const sent = await show({ ...COMPARISON, drafts: ['core/dim_berth.sql'] }, 'editor', {
      'POST workspaces/dues/commits': { id: 'c2', author: 'Jonas', at: '', message: 'Why' },
    });
    const button = await screen.findByRole('button', { name: 'Commit 1 draft' });
    expect((button as HTMLButtonElement).disabled).toBe(true);
    await userEvent.type(screen.getByRole('textbox', { name: 'What changed, and why' }), ' Why ');
    await userEvent.click(button);
    expect(sent.changed).toEqual([{ method: 'POST', path: 'workspaces/dues/commits', body: { message: 'Why' } }]);
    expect(await screen.findByText('Committed')).toBeTruthy();
  });
  test('of nothing shows what was released', async () => {
    await show({ ...COMPARISON, files: [], tables: [] });
    expect(await screen.findByText('Production already has everything in this workspace')).toBeTruthy();
    expect(screen.getByText('No releases yet')).toBeTruthy();
  });
  test('that cannot be made is an error with a way to try again', async () => {
    await show(new Problem(500, 'The server had an error'));
    expect(await screen.findByText('The server had an error')).toBeTruthy();
  });
});

test('production lists its releases', async () => {
  const release = {
    id: 3,
    commit: 'abcdef0123',
    workspace: 'dues',
    message: 'Dues by tonnage',
    person: 'Mira',
    tables: ['core.a', 'core.b'],
    runId: 4,
    review: null,
    withdraws: [],
    at: '2026-01-01T00:00:00Z',
  };
  serve({ ...around('viewer', 'production'), 'GET releases': [release] });
  await renderPlace(<Releases />, { at: '/w/production/releases' });
  const row = (await screen.findByText('Dues by tonnage')).closest('tr')!;
  expect([...row.cells].map((c) => c.textContent)).toEqual([
    '3',
    'Dues by tonnage',
    'dues',
    'Mira',
    '',
    '2 tables',
    expect.any(String),
    'abcdef0',
    '4',
  ]);
});

test('checks that are new or changed are listed with what was found, and run', async () => {
  const of = { kind: 'query', table: 'core.dim_berth' };
  const { changed } = await show(
    {
      ...COMPARISON,
      checks: [
        { change: 'new', check: checkOf('checks/long', { ...of, title: 'long', verdict: 'broken', atFault: '3' }) },
        { change: 'deleted', check: checkOf('checks/old', { ...of, title: 'old' }) },
      ],
    },
    'editor',
    {
      'GET runs': [],
      'POST workspaces/dues/checks': runOf(9, { kind: 'check' }),
      'GET runs/9': { ...runOf(9, { kind: 'check' }), steps: [] },
    },
  );
  const listed = within(await screen.findByRole('region', { name: 'Changed checks' }));
  expect(listed.getAllByRole('listitem').map((i) => i.textContent)).toEqual([
    'brokenlongcore.dim_berth, new, 3 rows at fault',
    'not runoldcore.dim_berth, deleted',
  ]);
  await userEvent.click(listed.getByRole('button', { name: 'Run changed checks' }));
  await waitFor(() => expect(changed).toMatchObject([{ body: { checks: ['checks/long'], tables: [] } }]));
});

describe('worked examples of a review', () => {
  const state = (name: string, verdict: string, of: object = {}) => ({
    table: 'core.dim_berth',
    name,
    verdict,
    at: null,
    outcome: null,
    ...of,
  });
  test('are listed with what they came to, and lead to their grids', async () => {
    const rows = [{ kind: 'missing', expected: ['x'], actual: null, cells: [] }];
    const outcome = { verdict: 'differs', columns: ['a'], rows, error: null, milliseconds: 1 };
    const states = [state('dredged', 'differs', { outcome }), state('renamed', 'holds')];
    await show(COMPARISON, 'releaser', { 'GET workspaces/dues/examples/changed': states });
    const list = await screen.findByRole('region', { name: 'Worked examples' });
    expect(
      within(list)
        .getAllByRole('listitem')
        .map((l) => l.textContent),
    ).toEqual(['differsdredgedcore.dim_berth, 1 row missing', 'holdsrenamedcore.dim_berth, holds']);
    const link = within(list).getByRole('link', { name: 'dredged' });
    expect(link.getAttribute('href')).toBe('/w/dues/tables/core.dim_berth/examples?example=dredged');
  });
  test('that run are asked for again until they have ended', async () => {
    let asked = 0;
    const answer = () => [state('dredged', ++asked < 2 ? 'running' : 'holds')];
    await show(COMPARISON, 'releaser', { 'GET workspaces/dues/examples/changed': answer });
    const list = await screen.findByRole('region', { name: 'Worked examples' });
    expect(list.textContent).toContain('running …');
    await waitFor(() => expect(list.textContent).toContain('core.dim_berth, holds'), { timeout: 4000 });
  });
  test('are not mentioned where none is concerned', async () => {
    await show(COMPARISON, 'releaser', { 'GET workspaces/dues/examples/changed': [] });
    await screen.findByRole('complementary', { name: 'Review' });
    expect(screen.queryByRole('region', { name: 'Worked examples' })).toBeNull();
  });
});
