/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { IncidentDetail, IncidentEntry, IncidentEvent } from '@ouvrage/api/incident';
import type { Person } from '@ouvrage/api/people';
import { around, incidentOf, PEOPLE, Problem, renderPlace, runOf, serve } from '../../testing';

const { default: Incidents } = await import('./incidents');
const { numbersOf } = await import('./numbers');
const { eventWords } = await import('./words');
afterEach(cleanup);

const CHECK = 'core.dim_berth/dim_berth_pkey';
const event = (id: number, of: Partial<IncidentEvent>): IncidentEvent => ({
  id,
  at: '2026-01-02T03:00:00Z',
  kind: 'remark',
  person: null,
  text: null,
  run: null,
  verdict: null,
  atFault: null,
  total: null,
  subject: null,
  ...of,
});
const detailOf = (of: Partial<IncidentDetail> = {}): IncidentDetail => ({
  ...incidentOf(4, { title: 'Berths without a key' }),
  description: '',
  learned: null,
  closedThough: null,
  events: [
    event(1, { kind: 'opened', person: 'Jonas', subject: CHECK }),
    event(2, { kind: 'verdict', verdict: 'broken', atFault: '12', total: '200', run: 7, subject: CHECK }),
    event(3, { kind: 'remark', person: 'Mira', text: 'See [core.dim_berth].' }),
  ],
  now: [{ subject: CHECK, title: 'core.dim_berth: berth_key is the key', verdict: 'broken' }],
  affected: [{ table: 'core.dim_berth', owner: 'tide desk', failing: 0, incident: null }],
  causes: [{ table: 'staging.berth', owner: null, failing: 2, incident: 5 }],
  related: [{ id: 5, title: 'Berths twice', why: 'staging.berth is upstream: it may be the cause' }],
  before: [],
  ...of,
});

const show = async (
  detail: IncidentDetail | undefined,
  {
    role = 'editor',
    at = '/4',
    others = [],
    answers = {},
  }: { role?: Person['role']; at?: string; others?: readonly IncidentEntry[]; answers?: object } = {},
) => {
  const people = Object.values(PEOPLE).map(({ name, displayName }) => ({ name, displayName }));
  const sent = serve({
    ...around(role),
    'GET incidents': { incidents: [...(detail ? [detail] : []), ...others], people },
    'GET incidents/4': detail ?? new Problem(404, 'Incident 4 does not exist'),
    'GET workspaces/dues/quality/series': { points: [], releases: [], failing: null },
    ...Object.fromEntries(
      ['take', 'changes', 'remarks', 'close', 'reopen', 'merge'].map((r) => [`POST incidents/4/${r}`, undefined]),
    ),
    ...answers,
  });
  await renderPlace(<Incidents />, { at: `/w/dues/incidents${at}`, route: '/w/:ws/incidents/:id?' });
  return sent;
};
const sheet = () => screen.findByRole('region', { name: 'Incident' });

test('where there is none it says how one is opened', async () => {
  await show(undefined, { at: '' });
  expect(await screen.findByText('No incidents yet')).toBeTruthy();
});

test('an incident says what happened, in words and with links', async () => {
  await show(detailOf());
  const said = within(await sheet())
    .getAllByRole('listitem')
    .map((i) => i.textContent);
  expect(said).toEqual([
    expect.stringMatching(/Jonas opened for core\.dim_berth\/dim_berth_pkey$|Jonas opened for core\.dim_berth: /),
    expect.stringMatching(/run 7: .*broken, 12 rows at fault of 200$/),
    expect.stringMatching(/MiraSee core\.dim_berth\.$/),
  ]);
  expect(
    within(await sheet())
      .getByRole('link', { name: 'core.dim_berth' })
      .getAttribute('href'),
  ).toBe('/w/dues/tables/core.dim_berth');
  const aside = screen.getByRole('complementary', { name: 'Around the incident' });
  expect(within(aside).getByRole('region', { name: 'Upstream' }).textContent).toBe(
    'Upstream causestaging.berth2 checks failingincident 5',
  );
  expect(within(aside).getByRole('link', { name: '5. Berths twice' }).getAttribute('href')).toBe('/w/dues/incidents/5');
});

describe('an editor', () => {
  const body = (path: string, of: object) => ({ path: `incidents/4/${path}`, body: of });
  test.each<[string, () => Promise<void>, object]>([
    [
      'takes it in hand',
      () => userEvent.click(screen.getByRole('button', { name: 'Take it in hand' })),
      body('take', {}),
    ],
    [
      'gives it a severity',
      () => userEvent.selectOptions(screen.getByLabelText('Severity'), 'high'),
      body('changes', { severity: 'high' }),
    ],
    [
      'gives it a lead',
      () => userEvent.selectOptions(screen.getByLabelText('Lead'), 'Mira'),
      body('changes', { lead: 'mira' }),
    ],
    [
      'renames it',
      async () => {
        await userEvent.click(screen.getByRole('button', { name: 'Rename' }));
        await userEvent.clear(screen.getByLabelText('Title'));
        await userEvent.type(screen.getByLabelText('Title'), 'Keys{Enter}');
      },
      body('changes', { title: 'Keys' }),
    ],
    [
      'adds a remark',
      async () => {
        await userEvent.type(screen.getByLabelText('Remark'), ' Two gauges. ');
        await userEvent.click(screen.getByRole('button', { name: 'Add remark' }));
      },
      body('remarks', { text: 'Two gauges.' }),
    ],
    [
      'closes it, saying why though it does not hold',
      async () => {
        await userEvent.click(screen.getByRole('button', { name: 'Close with what was learned' }));
        await userEvent.type(screen.getByLabelText('What was learned'), 'Ask first.');
        expect((screen.getByRole('button', { name: 'Close incident' }) as HTMLButtonElement).disabled).toBe(true);
        await userEvent.type(screen.getByLabelText('Why close it though it does not hold'), 'Gone soon.');
        await userEvent.click(screen.getByRole('button', { name: 'Close incident' }));
      },
      body('close', { learned: 'Ask first.', though: 'Gone soon.' }),
    ],
    [
      'merges it into the likely cause',
      async () => {
        await userEvent.click(screen.getByRole('button', { name: 'Merge …' }));
        await userEvent.click(screen.getByRole('button', { name: 'Merge' }));
      },
      body('merge', { into: 5 }),
    ],
  ])('%s', async (_, act, expected) => {
    const { changed } = await show(detailOf(), { others: [incidentOf(5, { title: 'Berths twice' })] });
    await sheet();
    await act();
    await waitFor(() => expect(changed).toMatchObject([expected]));
  });
  test('runs the check in production, wherever the incident is looked at', async () => {
    const { changed } = await show(detailOf(), {
      answers: {
        'POST workspaces/production/checks': runOf(9, { kind: 'check' }),
        'GET runs/9': { ...runOf(9, { kind: 'check' }), steps: [] },
      },
    });
    await userEvent.click(within(await sheet()).getByRole('button', { name: 'Run the check now' }));
    expect(await screen.findByRole('link', { name: 'run 9 succeeded' })).toBeTruthy();
    expect(changed).toMatchObject([{ body: { checks: [CHECK], tables: [] } }]);
  });
  test('reopens a closed one with a reason, and parts one that is about two things', async () => {
    const { changed } = await show(
      detailOf({ state: 'closed', learned: 'Ask first.', closedAt: '2026-01-02T05:00:00Z' }),
    );
    expect((await sheet()).textContent).toContain('What was learnedAsk first.');
    await userEvent.click(screen.getByRole('button', { name: 'Reopen' }));
    await userEvent.type(screen.getByLabelText('Why'), 'Again.');
    await userEvent.click(within(screen.getByRole('dialog')).getByRole('button', { name: 'Reopen' }));
    await waitFor(() => expect(changed).toMatchObject([body('reopen', { text: 'Again.' })]));
  });
  test('splits off one of two things', async () => {
    const two = incidentOf(4).subjects.concat({ kind: 'load', subject: 'staging.berth', table: 'staging.berth' });
    const { changed } = await show(detailOf({ subjects: two }), {
      answers: { 'POST incidents/4/split': detailOf({ ...incidentOf(6), events: [] }) },
    });
    await sheet();
    await userEvent.click(screen.getByRole('button', { name: 'Split …' }));
    await userEvent.click(screen.getAllByRole('button', { name: 'Split off' })[1]!);
    await waitFor(() => expect(changed).toMatchObject([body('split', { kind: 'load', subject: 'staging.berth' })]));
  });
});

test('a viewer reads it, and is offered nothing to change', async () => {
  await show(detailOf(), { role: 'viewer' });
  const buttons = within(await sheet()).getAllByRole('button');
  expect(buttons.map((b) => [b.textContent, b.getAttribute('aria-disabled')])).toEqual([
    ['Run the check now', 'true'],
    ['Close with what was learned', 'true'],
  ]);
});

test('an incident that is gone, and a refusal, are told', async () => {
  await show(undefined);
  expect(await screen.findByText('Incident 4 does not exist')).toBeTruthy();
});

test.each<[string, Partial<IncidentEvent>, string]>([
  ['a check that holds', { kind: 'verdict', verdict: 'holds', total: '755', subject: 'x' }, 'X holds, 755 rows'],
  ['a load', { kind: 'load', verdict: 'holds', subject: 'x' }, 'X was loaded'],
  [
    'a load that failed',
    { kind: 'load', verdict: 'broken', subject: 'x', text: 'no disk' },
    'X was not loaded: no disk',
  ],
  ['a release', { kind: 'release', text: 'release 3: Rates' }, 'release 3: Rates'],
  ['a change', { kind: 'changed', text: 'severity low' }, 'changed severity low'],
  ['an end', { kind: 'closed', text: 'Ask first.' }, 'closed it: Ask first.'],
  ['opened again', { kind: 'reopened', text: 'failed again' }, 'opened again: failed again'],
  ['merged', { kind: 'merged', text: 'into incident 3' }, 'merged into incident 3'],
  ['split', { kind: 'split', text: 'incident 3', subject: 'x' }, 'split off X as incident 3'],
  ['gone', { kind: 'gone', text: 'release 3 removed x' }, 'closed: release 3 removed x'],
])('words of an event: %s', (_, of, expected) =>
  expect(eventWords(event(1, of), (s) => s.toUpperCase())).toBe(expected),
);

describe('numbers', () => {
  const HOUR = 3_600_000;
  const incidents = [
    incidentOf(1, { severity: 'high', state: 'closed', closedAt: '2026-01-02T03:00:00Z' }),
    incidentOf(2, { severity: 'high', state: 'closed', closedAt: '2026-01-02T05:00:00Z', reopened: 1 }),
    incidentOf(3, { severity: 'low' }),
  ];
  test('are medians of how long until noticed and closed', () => {
    expect(numbersOf(incidents, (i) => [i.severity])).toEqual([
      { name: 'high', opened: 2, closed: 2, reopened: 1, noticed: HOUR, lasted: 3 * HOUR },
      { name: 'low', opened: 1, closed: 0, reopened: 0, noticed: HOUR, lasted: null },
    ]);
  });
  test('are shown by month, table, owner and severity', async () => {
    await show(undefined, { at: '/numbers', others: incidents });
    await userEvent.click(await screen.findByRole('button', { name: 'by table' }));
    const [, row] = within(screen.getByRole('table', { name: 'Numbers by table' })).getAllByRole('row');
    expect(row!.textContent).toBe('core.dim_berth3211 hour3 hours');
  });
});
