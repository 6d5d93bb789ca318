/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { CheckSeries, CheckState, QualityDay, QualityDays } from '@ouvrage/api/quality';
import type { WatchFinding, WatchSeries } from '@ouvrage/api/watch';
import type { Verdict } from '@ouvrage/core/check';
import { around, checkOf, Problem, renderPlace, runOf, serve } from '../../testing';

const { default: Quality } = await import('./quality');
afterEach(cleanup);

const DAYS = ['2026-11-28', '2026-11-29', '2026-11-30'];
const daysOf = (tables: Readonly<Record<string, readonly (Verdict | null)[]>>): QualityDays => ({
  environment: 'dues',
  zone: 'UTC',
  days: DAYS,
  tables: Object.entries(tables).map(([table, verdicts]) => ({ table, verdicts })),
});
const POINT = {
  id: 'core.b/three',
  verdict: 'broken',
  atFault: '3',
  total: '10',
  at: '2026-11-30T04:00:00Z',
  run: 7,
} as const;
const SERIES: CheckSeries = { points: [POINT], releases: [], failing: null };

/** A project with these checks, each a condition of its table's contract, what was last found of them, and how the days were. */
const show = async (
  checks: readonly CheckState[],
  {
    days = {},
    path = '',
    answers = {},
  }: { days?: Readonly<Record<string, readonly (Verdict | null)[]>>; path?: string; answers?: object } = {},
) => {
  const tables = new Map<string, CheckState[]>();
  for (const c of checks) tables.set(c.table, [...(tables.get(c.table) ?? []), c]);
  const contract = (table: string, list: readonly CheckState[]) =>
    `create table ${table} (x integer${list.map((c) => `,\n  constraint ${c.id.split('/')[1]!} check (${c.title})`).join('')});\nselect 1 as x;\n`;
  const files = Object.fromEntries(
    [...tables].map(([table, list]) => [`${table.replace('.', '/')}.sql`, contract(table, list)]),
  );
  const all = around();
  const sent = serve({
    ...all,
    'GET workspaces/dues/files': {
      ...(all['GET workspaces/dues/files'] as object),
      files: { 'layers.sql': 'create schema core; create schema mart;', ...files },
    },
    'GET workspaces/dues/state': { tables: [], checks: checks.filter((c) => c.verdict !== 'not run') },
    'GET workspaces/dues/check-history': [],
    'GET watches': [],
    'GET incidents': { incidents: [], people: [] },
    'GET workspaces/dues/quality/days': daysOf(days),
    'GET workspaces/dues/quality/series': SERIES,
    ...answers,
  });
  await renderPlace(<Quality />, { at: `/w/dues/quality${path}`, route: '/w/:ws/quality/*' });
  return sent;
};
const sheet = () => screen.findByRole('table', { name: 'Verdicts by table and day' });
const rowsOf = async () =>
  within(await sheet())
    .getAllByRole('rowheader')
    .map((r) => r.textContent);

const CHECKS = [
  checkOf('core.a/one', { table: 'core.a', title: 'x > 1', atFault: '0' }),
  checkOf('core.b/two', { table: 'core.b', title: 'x > 2', atFault: '0' }),
  checkOf('core.b/three', { table: 'core.b', title: 'x > 3', verdict: 'broken', atFault: '1200' }),
  checkOf('core.b/four', { table: 'core.b', title: 'x > 4', verdict: 'advisory', atFault: '1' }),
  checkOf('mart.c/five', { table: 'mart.c', title: 'x > 5', verdict: 'not run' }),
];

test('a project without checks says where they are written', async () => {
  await show([]);
  expect(await screen.findByText('The project has no checks yet')).toBeTruthy();
});

describe('the sheet', () => {
  test('has a table a row and a verdict a day, and says what needs an eye now', async () => {
    await show(CHECKS, { days: { 'core.a': ['holds', null, 'holds'], 'core.b': ['holds', 'not run', 'broken'] } });
    expect(await rowsOf()).toEqual(['core.a', 'core.b', 'mart.c']);
    const row = within(await sheet())
      .getByRole('rowheader', { name: 'core.b' })
      .closest('tr')!;
    expect(
      within(row)
        .getAllByRole('button')
        .map((b) => b.getAttribute('aria-label')),
    ).toEqual(['core.b, 2026-11-28: holds', 'core.b, 2026-11-29: not run', 'core.b, 2026-11-30: broken']);
    const now = within(row).getByRole('link', { name: 'x > 3, and 1 more check' });
    expect(now.getAttribute('href')).toBe('/w/dues/quality/core.b/three');
  });
  test.each([
    ['a verdict', async () => userEvent.click(screen.getByRole('button', { name: /^broken/ })), ['core.b']],
    ['a layer', async () => userEvent.selectOptions(screen.getByLabelText('Layer'), 'mart'), ['mart.c']],
  ])('is narrowed by %s', async (_, narrow, expected) => {
    await show(CHECKS);
    await sheet();
    await narrow();
    expect(await rowsOf()).toEqual(expected);
  });
  test('is walked with the arrow keys', async () => {
    await show(CHECKS, { days: { 'core.a': ['holds', 'holds', 'holds'] } });
    const last = within(await sheet()).getByRole('button', { name: 'core.a, 2026-11-30: holds' });
    expect(last.tabIndex).toBe(0);
    last.focus();
    await userEvent.keyboard('{ArrowDown}{ArrowLeft}');
    expect(document.activeElement?.getAttribute('aria-label')).toBe('core.b, 2026-11-29: nothing ran');
    await userEvent.keyboard('{ArrowUp}{ArrowUp}');
    expect(document.activeElement?.getAttribute('aria-label')).toBe('core.a, 2026-11-29: holds');
  });
  test('of many tables only those in sight are in the page', async () => {
    await show(
      Array.from({ length: 600 }, (_, i) => checkOf(`core.t${i}/c${i}`, { table: `core.t${i}`, title: `x > ${i}` })),
    );
    expect((await rowsOf()).length).toBeLessThan(100);
  });
  test('says what went wrong, and is read again', async () => {
    await show(CHECKS, { answers: { 'GET workspaces/dues/quality/days': new Problem(500, 'The database is busy') } });
    expect(await screen.findByText('The database is busy')).toBeTruthy();
  });
});

describe('below it', () => {
  test('what ran on a day, the worst first', async () => {
    const day: QualityDay = {
      results: [
        { ...POINT, id: 'core.b/two', verdict: 'holds', atFault: '0' },
        POINT,
        { ...POINT, id: 'core.b/gone', verdict: 'advisory', atFault: '1' },
      ],
      loads: [{ run: 7, state: 'failed', rows: null, error: 'a check is broken', at: '2026-11-30T04:00:00Z' }],
    };
    await show(CHECKS, {
      path: '?table=core.b&day=2026-11-30',
      answers: { 'GET workspaces/dues/quality/day': day },
    });
    const table = await screen.findByRole('table', { name: 'Checks of core.b on 2026-11-30' });
    expect(
      within(table)
        .getAllByRole('row')
        .slice(1)
        .map((r) => r.textContent),
    ).toEqual([
      expect.stringMatching(/^brokenx > 3310/),
      expect.stringMatching(/^advisorycore.b\/gone, no longer a check110/),
      expect.stringMatching(/^holdsx > 2010/),
    ]);
    expect(screen.getByText('a check is broken')).toBeTruthy();
  });
  test('a cell opens its day', async () => {
    await show(CHECKS, { answers: { 'GET workspaces/dues/quality/day': { results: [], loads: [] } } });
    await userEvent.click(within(await sheet()).getByRole('button', { name: /^core\.a, 2026-11-29/ }));
    expect(await screen.findByText('Nothing ran of it on this day.')).toBeTruthy();
    expect(screen.getByLabelText('address').textContent).toBe('/w/dues/quality?table=core.a&day=2026-11-29');
  });
  test('a check: since when it fails, and what changed before', async () => {
    const failing: CheckSeries['failing'] = {
      since: '2026-11-29T04:00:00Z',
      run: 5,
      results: 2,
      held: '2026-11-28T04:00:00Z',
      releases: [
        { id: 3, message: 'Rates\n\nof berths', person: 'Mira', at: '2026-11-29T03:00:00Z', tables: ['core.b'] },
      ],
      loads: [{ table: 'core.a', run: 5, state: 'done', at: '2026-11-29T03:30:00Z', rows: '412', rowsBefore: '755' }],
      files: [{ table: 'landing.a', file: 'a_2026-11-29.csv', at: '2026-11-29T03:20:00Z', rows: '412' }],
    };
    await show(CHECKS, {
      path: '/core.b/three',
      answers: { 'GET workspaces/dues/quality/series': { ...SERIES, failing } },
    });
    const since = await screen.findByRole('region', { name: 'Since when' });
    expect(since.textContent).toMatch(
      /Failing since 2026-11-29 .*, in 2 verdicts: run 5 was the first\. It last held at 2026-11-28/,
    );
    expect(
      within(since)
        .getAllByRole('listitem')
        .map((i) => i.textContent),
    ).toEqual([
      expect.stringMatching(/^release 3 by Mira, .*: Rates \(core\.b\)$/),
      expect.stringMatching(/^landing\.aa_2026-11-29\.csv came in 2026-11-29 .*412 rows$/),
      'core.adone412 rows, 755 beforerun 5',
    ]);
  });
  test('a check runs alone, and its run is followed', async () => {
    const { changed } = await show(CHECKS, {
      path: '/core.b/three',
      answers: {
        'POST workspaces/dues/checks': runOf(9, { kind: 'check', state: 'queued' }),
        'GET runs/9': { ...runOf(9, { kind: 'check', state: 'failed' }), steps: [] },
      },
    });
    await userEvent.click(await screen.findByRole('button', { name: 'Run check' }));
    expect(await screen.findByRole('link', { name: 'run 9 failed' })).toBeTruthy();
    expect(changed).toMatchObject([{ path: 'workspaces/dues/checks', body: { checks: ['core.b/three'], tables: [] } }]);
  });
  test('a check that is gone', async () => {
    await show(CHECKS, { path: '/core.b/nothing' });
    expect(await screen.findByText('This check does not exist')).toBeTruthy();
  });
});

test('coverage lists what lacks a check on its key, a description or an owner', async () => {
  await show(CHECKS, { path: '?view=coverage' });
  expect(await screen.findByText('3 tables of 3 lack a check on the key, a description or an owner.')).toBeTruthy();
});

test('verdicts are saved as files of the days and the environment', async () => {
  await show(CHECKS);
  await sheet();
  await userEvent.click(screen.getByRole('button', { name: /Save as/ }));
  const [csv, junit] = screen.getAllByRole('menuitem');
  expect(csv!.getAttribute('href')).toMatch(
    /^\/api\/workspaces\/dues\/quality\/export\?of=here&days=30&format=csv&zone=/,
  );
  expect(junit!.getAttribute('href')).toContain('format=junit');
});

describe('a watch', () => {
  const SHOWN: WatchFinding = {
    table: 'core.a',
    measure: 'rows',
    value: 412,
    least: 690.2,
    greatest: 809.7,
    by: 'weekday',
    from: 27,
    run: 88,
    at: '2026-11-30T04:00:00Z',
    others: ['null share of x'],
  };
  const POINTS = [
    { run: 87, at: '2026-11-29T04:00:00Z', value: 755, verdict: 'inside', least: null, greatest: null },
    { run: 88, at: '2026-11-30T04:00:00Z', value: 412, verdict: 'outside', least: 690.2, greatest: 809.7 },
  ] as const;
  const series: WatchSeries[] = [
    {
      measure: 'rows',
      isSampled: false,
      points: POINTS,
      expected: { least: 690.2, greatest: 809.7, by: 'weekday', from: 27 },
      ignored: null,
    },
    { measure: 'null share of x', isSampled: false, points: POINTS, expected: null, ignored: null },
  ];
  const answers = { 'GET watches': [SHOWN], 'GET watches/series': series, 'POST watches/lessons': undefined };
  test('tells in the sheet of production what it found', async () => {
    await show(CHECKS, { answers });
    await userEvent.selectOptions(await screen.findByLabelText('Runs of'), 'production');
    const now = await screen.findByRole('link', { name: 'rows: 412, expected 690 to 810' });
    expect(now.getAttribute('href')).toBe('/w/dues/quality?table=core.a&watch=rows');
  });
  test.each<[string, () => Promise<unknown>, object]>([
    [
      'that a value is normal',
      () => userEvent.click(screen.getByRole('button', { name: 'This is normal from now on' })),
      {},
    ],
    [
      'to be silent until a day',
      async () => {
        await userEvent.click(screen.getByRole('button', { name: 'Ignore until …' }));
        await userEvent.clear(screen.getByLabelText('Ignore until'));
        await userEvent.type(screen.getByLabelText('Ignore until'), '2026-12-24');
        await userEvent.click(screen.getByRole('button', { name: 'Ignore' }));
      },
      { until: '2026-12-24' },
    ],
  ])('is taught %s', async (_, act, lesson) => {
    const { changed } = await show(CHECKS, { path: '?table=core.a&watch=rows', answers });
    expect(await screen.findByText(/^412 .*, expected 690 to 810\.$|expected 690 to 810/)).toBeTruthy();
    await act();
    await waitFor(() =>
      expect(changed).toMatchObject([
        { path: 'watches/lessons', body: { table: 'core.a', measure: 'rows', ...lesson } },
      ]),
    );
  });
  test('says until when it is silent, and who said so', async () => {
    const ignored = { until: '2026-12-24T00:00:00Z', person: 'Jonas Reet' } as const;
    const points = [POINTS[0], { ...POINTS[1], verdict: 'ignored' as const }];
    const silent = series.map((s) => ({ ...s, points, ignored }));
    await show(CHECKS, { path: '?table=core.a&watch=rows', answers: { ...answers, 'GET watches/series': silent } });
    expect(await screen.findByText(/^Ignored until 2026-12-24 .* by Jonas Reet/)).toBeTruthy();
    expect(screen.getByRole('img', { name: 'unusual, ignored' })).toBeTruthy();
    expect(screen.queryByRole('button', { name: 'This is normal from now on' })).toBeNull();
  });
  test('says that it still learns, and what was never measured', async () => {
    await show(CHECKS, { path: '?table=core.a&watch=null%20share%20of%20x', answers });
    expect(await screen.findByText(/still learning: it says nothing before 14 days/)).toBeTruthy();
    cleanup();
    await show(CHECKS, { path: '?table=core.a&watch=tides', answers });
    expect(await screen.findByText('core.a has no measure tides yet')).toBeTruthy();
  });
});
