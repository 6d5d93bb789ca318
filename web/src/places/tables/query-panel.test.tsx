/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import type { AnatomyStep, PlanAnswer } from '@ouvrage/api/anatomy';
import { EditorView } from '@codemirror/view';
import { act, cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, Lines, Problem, renderPlace, serve, type Answers, type Sent } from '../../testing';

const { default: Tables } = await import('./tables');
const { store, textTyped } = await import('../../data/store');
afterEach(() => {
  cleanup();
  for (const key of Object.keys(store.getState().interface.typed)) store.dispatch(textTyped({ key, typed: null }));
});

const TEXT = 'select b.berth_code from landing.berth b join landing.berth c using (berth_code)';
const step = (id: string, of: Partial<AnatomyStep>): AnatomyStep => ({
  id,
  kind: 'source',
  label: id,
  depth: 0,
  inputs: [],
  start: 0,
  end: TEXT.length,
  known: {},
  looks: ['rows'],
  ...of,
});
const STEPS = [
  step('left', { label: 'landing.berth b', start: 25, end: 40 }),
  step('right', { label: 'landing.berth c', start: 46, end: 61 }),
  step('join', {
    kind: 'join',
    join: 'inner',
    label: 'join landing.berth c using (berth_code)',
    key: ['berth_code'],
    inputs: ['left', 'right'],
    start: 41,
    end: TEXT.length,
    looks: ['rows', 'leftAlone', 'keys'],
  }),
  step('result', { kind: 'result', inputs: ['join'], rowsOf: ['join'] }),
];
const steps = (of: object = {}) => ({
  kind: 'steps',
  side: 'here',
  steps: STEPS,
  asOf: '2026-03-01T10:00:00.000Z',
  seconds: 0,
  isHeld: false,
  ...of,
});
const figures = (list: readonly (readonly [string, string, number])[], side = 'here') => ({
  kind: 'figures',
  side,
  figures: list.map(([of, figure, value]) => ({ step: of, figure, value })),
});
const JOINED = [
  ['join', 'rows', 12],
  ['left', 'rows', 6],
  ['right', 'rows', 6],
  ['join', 'leftSeveral', 6],
  ['join', 'leftKeys', 3],
  ['join', 'leftMost', 2],
  ['join', 'leftAlone', 0],
] as const;
const ROWS = {
  columns: [{ name: 'berth_code', type: 'text' }],
  rows: [['B-7']],
  total: 1,
  milliseconds: 3,
  sql: 'select',
  inlined: [],
  isFull: false,
};

const show = async (answers: Answers) => {
  const sent = serve({
    ...around(),
    'GET workspaces/dues/files': {
      ...(around()['GET workspaces/dues/files'] as object),
      files: { ...FILES, 'staging/pair.sql': TEXT },
    },
    'POST workspaces/dues/validate': [],
    'POST workspaces/dues/anatomy/rows': ROWS,
    ...answers,
  });
  await renderPlace(<Tables />, { at: '/w/dues/tables/staging.pair/definition', route: '/w/:ws/tables/:table/:facet' });
  return sent;
};
/** The panels around take every press of a pointer for theirs: without a layout all have the same place. */
const open = async (name: string) => void fireEvent.mouseDown(await screen.findByRole('tab', { name }), { button: 0 });
const lines = async () =>
  within(await screen.findByRole('listbox', { name: 'Steps of the query' }))
    .getAllByRole('option')
    .map((o) => o.textContent);

describe('the anatomy of a query', () => {
  test('is counted when it is opened; the join that multiplies is named, and shows its keys', async () => {
    const sent = await show({
      'POST workspaces/dues/anatomy': new Lines([steps(), figures(JOINED), { kind: 'end', milliseconds: 61 }]),
    });
    await open('Anatomy');
    await waitFor(async () => expect((await lines())[2]).toContain('multiplies: 3 keys, up to 2 rows each'));
    expect((await lines())[0]).toBe('1sourcelanding.berth b6');
    expect(screen.getByText(/^4 steps, all rows, 61 ms/)).toBeTruthy();
    await userEvent.click(screen.getAllByRole('option', { name: /multiplies/ })[0]!);
    expect(await screen.findByRole('button', { name: 'keys that multiply 3', pressed: true })).toBeTruthy();
    // What is nothing is not offered.
    expect(screen.queryByRole('button', { name: /left alone/ })).toBeNull();
    await waitFor(() => expect(sent.changed.at(-1)?.body).toMatchObject({ step: 'join', look: 'keys', text: TEXT }));
    expect(document.querySelector('.cm-content .bg-wash')?.textContent).toBe('join landing.berth c using (berth_code)');
  });
  test('arrow keys choose a step, and text that is selected chooses the one around it', async () => {
    await show({ 'POST workspaces/dues/anatomy': new Lines([steps(), figures(JOINED)]) });
    await open('Anatomy');
    const list = await screen.findByRole('listbox', { name: 'Steps of the query' });
    act(() => list.focus());
    await userEvent.keyboard('{Home}{ArrowDown}');
    expect(await screen.findByText('Step 2: source')).toBeTruthy();
    const view = EditorView.findFromDOM(document.querySelector<HTMLElement>('.cm-editor')!)!;
    act(() => view.dispatch({ selection: { anchor: 64, head: 70 } }));
    expect(await screen.findByText('Step 3: join')).toBeTruthy();
  });
  test('stands beside production’s, step by step', async () => {
    await show({
      'POST workspaces/dues/anatomy': new Lines([
        steps(),
        figures(JOINED),
        steps({ side: 'production', steps: STEPS.filter((s) => s.id !== 'right') }),
        figures(
          [
            ['left', 'rows', 6],
            ['join', 'rows', 5],
          ],
          'production',
        ),
      ]),
    });
    await open('Anatomy');
    await waitFor(async () =>
      expect((await lines()).map((l) => /(same|new|[+−]\d+)/.exec(l!)?.[0])).toEqual(['same', 'new', '+7', '+7']),
    );
  });
  test('of an edited text is counted again on demand, and what takes long waits to be asked for', async () => {
    const sent = await show({ 'POST workspaces/dues/anatomy': new Lines([steps({ isHeld: true, seconds: 44 })]) });
    await open('Anatomy');
    expect(await screen.findByText(/may take about 44 s/)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Count them' }));
    await waitFor(() => expect(sent.changed.at(-1)?.body).toMatchObject({ force: true }));
    const view = EditorView.findFromDOM(document.querySelector<HTMLElement>('.cm-editor')!)!;
    act(() => view.dispatch({ changes: { from: TEXT.length, insert: ' where true' } }));
    await userEvent.click(await screen.findByRole('button', { name: 'Count again' }));
    await waitFor(() =>
      expect(sent.changed.findLast((s) => s.path.endsWith('anatomy'))?.body).toMatchObject({
        text: `${TEXT} where true`,
      }),
    );
  });
  test('says why it cannot be had, and why it stopped', async () => {
    await show({
      'POST workspaces/dues/anatomy': new Problem(409, 'landing.berth has no rows in the warehouse yet', 'Load it.'),
    });
    await open('Anatomy');
    expect(await screen.findByText('landing.berth has no rows in the warehouse yet')).toBeTruthy();
    cleanup();
    await show({
      'POST workspaces/dues/anatomy': new Lines([
        steps(),
        { kind: 'stopped', error: { message: 'Counting gave way to another query of yours' } },
      ]),
    });
    await open('Anatomy');
    expect(await screen.findByText(/Counting gave way/)).toBeTruthy();
  });
});

const DRAFT = ({ body }: Sent) => ({ ...(body as object), version: 1, by: 'Jonas', at: '2026-01-01T00:00:00Z' });

describe('a step', () => {
  test('is lifted out: both files are shown, and become drafts', async () => {
    const sent = await show({
      'POST workspaces/dues/anatomy': new Lines([steps({ steps: [{ ...STEPS[2], id: 'join landing.berth' }] })]),
      'PUT workspaces/dues/drafts': DRAFT,
    });
    await open('Anatomy');
    await userEvent.click(await screen.findByRole('button', { name: 'Lift out' }));
    const name = screen.getByLabelText('Name of the new definition');
    await userEvent.clear(name);
    await userEvent.type(name, 'core.dim_berth');
    await userEvent.click(screen.getByRole('button', { name: 'Show both files' }));
    expect((await screen.findByRole('alert')).textContent).toBe('there is a table core.dim_berth already');
    await userEvent.clear(name);
    await userEvent.type(name, 'staging.pairs');
    await userEvent.click(screen.getByRole('button', { name: 'Show both files' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Save as drafts' }));
    await waitFor(() =>
      expect(sent.changed.filter((s) => s.method === 'PUT').map((s) => (s.body as { text: string }).text)).toEqual([
        'select b.berth_code\nfrom landing.berth b join landing.berth c using (berth_code);\n',
        'select pairs.berth_code from staging.pairs',
      ]),
    );
  });
  test('that was one goes back into the query that reads it', async () => {
    const sent = serve({
      ...around(),
      'GET workspaces/dues/files': {
        ...(around()['GET workspaces/dues/files'] as object),
        files: {
          ...FILES,
          'staging/pair.sql': 'select berth_code from staging.berth',
          'core/dim_berth.sql': 'select 1 as one',
        },
      },
      'POST workspaces/dues/validate': [],
      'PUT workspaces/dues/drafts': DRAFT,
    });
    await renderPlace(<Tables />, {
      at: '/w/dues/tables/staging.berth/definition',
      route: '/w/:ws/tables/:table?/:facet?',
    });
    await userEvent.click(await screen.findByRole('button', { name: 'Put into its reader' }));
    await userEvent.click(await screen.findByRole('button', { name: 'Save as drafts' }));
    await waitFor(() =>
      expect(sent.changed.filter((s) => s.method === 'PUT').map((s) => s.body)).toEqual([
        {
          path: 'staging/pair.sql',
          text: 'with berth as (\nselect berth_code, length_m from landing.berth\n)\nselect berth_code from berth',
          version: 0,
        },
        { path: 'staging/berth.sql', text: null, version: 0 },
      ]),
    );
  });
});

const PLAN: PlanAnswer = {
  nodes: [
    {
      id: 0,
      parent: undefined,
      depth: 0,
      type: 'hash join',
      estimatedRows: 10,
      rows: 1200,
      loops: 1,
      ownTime: 2,
      totalTime: 90,
      ownCost: 5,
      step: 'join',
      condition: '(b.berth_code = c.berth_code)',
    },
    {
      id: 1,
      parent: 0,
      depth: 1,
      type: 'seq scan',
      relation: { schema: 'landing', name: 'berth' },
      alias: 'b',
      estimatedRows: 100,
      rows: 100,
      loops: 1,
      ownTime: 88,
      totalTime: 88,
      ownCost: 5,
      removed: 99_900,
      spilled: 640,
      step: 'left',
      filter: "(b.berth_code = 'x'::text)",
      hitBlocks: 10,
      readBlocks: 2,
    },
  ],
  advice: [
    {
      kind: 'index',
      node: 1,
      table: 'core.dim_berth',
      reason: 'Many rows are read to keep few.',
      statement: 'create index on core.dim_berth (berth_code);',
    },
  ],
  steps: STEPS,
  executionTime: 90.2,
  planningTime: 1,
  sql: 'select',
};

describe('the plan of a query', () => {
  test('shows times, rows against the estimate and the step of each node, and takes advice into a draft', async () => {
    const sent = await show({
      'POST workspaces/dues/plan': PLAN,
      'PUT workspaces/dues/drafts': { path: 'core/dim_berth.sql', text: '', version: 1, by: 'jonas', at: '' },
    });
    await open('Plan');
    expect(await screen.findByText('120 × too few')).toBeTruthy();
    expect(screen.getByText('2 nodes, 90 ms')).toBeTruthy();
    for (const text of ['99,900 rows removed', '640 kB written to disk', '96 kB', '88 ms'])
      expect(screen.getByText(text)).toBeTruthy();
    const types = () => screen.getAllByText(/^(hash join|seq scan)$/).map((e) => e.textContent);
    expect(types()).toEqual(['hash join', 'seq scan']);
    await userEvent.click(screen.getByRole('button', { name: 'by own time' }));
    expect(types()).toEqual(['seq scan', 'hash join']);
    await userEvent.click(screen.getByRole('button', { name: '3 join' }));
    expect(document.querySelector('.cm-content .bg-wash')?.textContent).toBe('join landing.berth c using (berth_code)');
    await userEvent.click(screen.getByRole('button', { name: 'Add to core.dim_berth' }));
    await waitFor(() =>
      expect(sent.changed.find((s) => s.method === 'PUT')?.body).toEqual({
        path: 'core/dim_berth.sql',
        text: `${FILES['core/dim_berth.sql']!}\n\ncreate index on core.dim_berth (berth_code);\n`,
        version: 0,
      }),
    );
  });
  test('that was ended by the time limit says so', async () => {
    await show({ 'POST workspaces/dues/plan': { ...PLAN, executionTime: null, endedBehind: 30, advice: [] } });
    await open('Plan');
    expect(await screen.findByText(/ended at the limit of 30 s/)).toBeTruthy();
  });
});
