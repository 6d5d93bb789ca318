/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import type { Person } from '@ouvrage/api/people';
import type { Comparison } from '@ouvrage/api/release';
import type { Remark, Review } from '@ouvrage/api/review';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, Problem, renderPlace, serve } from '../../testing';

const { default: Releases } = await import('./releases');
const { reviewConditions } = await import('./approvals');
const { placeWords } = await import('./remarks');
afterEach(cleanup);

const AT = '2026-01-01T00:00:00Z';
const DIFF = 'd'.repeat(64);
const COMPARISON: Comparison = {
  workspace: { slug: 'dues', name: 'Dues', owner: 'Jonas' },
  commits: [{ id: 'c1', author: 'Jonas', at: AT, message: 'Berths have a length' }],
  drafts: [],
  conflicts: [],
  errors: [],
  files: [{ path: 'core/dim_berth.sql', kind: 'changed', draft: false }],
  tables: [
    {
      table: 'core.dim_berth',
      kind: 'changed',
      columnsAdded: [],
      columnsDropped: [],
      columnsRenamed: [],
      columnsRetyped: [],
    },
  ],
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
  verdicts: { broken: 0, advisory: 0, 'not run': 0, holds: 0 },
};
const REVIEW: Review = {
  diff: DIFF,
  authors: ['Jonas'],
  needs: [],
  verdicts: [],
  missing: [],
  mayNot: null,
  asked: null,
  remarks: [],
};
const APPROVED = { person: 'Ola', word: 'approved', text: 'Read.', at: AT, stale: null } as const;
const remarkOf = (id: number, place: Remark['place'], of: Partial<Remark> = {}): Remark => ({
  id,
  place,
  person: 'Ola',
  text: 'Why?',
  at: AT,
  line: place.kind === 'line' ? place.line : null,
  answers: [],
  resolved: null,
  ...of,
});
const LINE = { kind: 'line', path: 'core/dim_berth.sql', line: 2, text: 'select 2' } as const;

const show = async (review: Partial<Review>, role: Person['role'] = 'editor', answers: object = {}, at?: string) => {
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/comparison': COMPARISON,
    'GET workspaces/dues/comparison/file': { before: 'select 1', after: '-- berths\nselect 2' },
    'GET workspaces/dues/review': { ...REVIEW, ...review },
    'GET releases': [],
    ...answers,
  });
  await renderPlace(<Releases />, at === undefined ? {} : { at });
  return sent;
};
const approval = async () => within(await screen.findByRole('region', { name: 'Approval' }));

test.each<[string, Partial<Review>, string[]]>([
  ['no rule', {}, []],
  ['one approval', { needs: [{ kind: 'approvals', wanted: 1, found: 0 }] }, ['not run: Another person has to approve']],
  ['one of two', { needs: [{ kind: 'approvals', wanted: 2, found: 1 }] }, ['not run: 1 of 2 approvals']],
  ['both', { needs: [{ kind: 'approvals', wanted: 2, found: 3 }] }, ['holds: Approved by 3 others']],
  [
    'an owner',
    { needs: [{ kind: 'owner', owner: 'dues office', tables: [], people: ['Ola', 'Petra'], isMet: false }] },
    ['not run: Ola or Petra has to approve for dues office'],
  ],
  [
    'an owner whom nobody can stand for',
    { needs: [{ kind: 'owner', owner: 'dues office', tables: [], people: [], isMet: false }] },
    ['not run: Nobody who did not write it can approve for dues office'],
  ],
  [
    'who declines; not who did before another change',
    {
      verdicts: [
        { ...APPROVED, word: 'declined' },
        { ...APPROVED, person: 'Petra', word: 'declined', stale: 'gone' },
      ],
    },
    ['broken: Ola declines it'],
  ],
])('what a release needs: %s', (_, review, expected) =>
  expect(reviewConditions({ ...REVIEW, ...review }).map((c) => `${c.verdict}: ${c.text}`)).toEqual(expected),
);

describe('an approval', () => {
  test('is a word on the diff that is shown', async () => {
    const sent = await show({}, 'editor', { 'POST workspaces/dues/review/verdicts': undefined });
    const here = await approval();
    expect((here.getByRole('button', { name: 'Approve' }) as HTMLButtonElement).disabled).toBe(true);
    await userEvent.type(here.getByRole('textbox', { name: 'What you say' }), ' Looks right. ');
    await userEvent.click(here.getByRole('button', { name: 'Approve' }));
    expect(sent.changed).toMatchObject([{ body: { word: 'approved', text: 'Looks right.', diff: DIFF } }]);
  });
  test('that is refused says why and keeps the words', async () => {
    await show({}, 'editor', { 'POST workspaces/dues/review/verdicts': new Problem(409, 'The workspace has changed') });
    const here = await approval();
    await userEvent.type(here.getByRole('textbox', { name: 'What you say' }), 'No.');
    await userEvent.click(here.getByRole('button', { name: 'Decline' }));
    expect(await here.findByText('The workspace has changed')).toBeTruthy();
    expect((here.getByRole('textbox', { name: 'What you say' }) as HTMLTextAreaElement).value).toBe('No.');
  });
  test('is listed, and says since when it counts no more', async () => {
    await show({ verdicts: [APPROVED, { ...APPROVED, person: 'Petra', stale: 'the change is another one now' }] });
    const [first, second] = (await approval()).getAllByRole('listitem');
    expect(first!.textContent).toMatch(/Ola approves .*Read\./);
    expect(second!.textContent).toMatch(/Petra had approved it .*Counts no more: the change is another one now\./);
  });
  test('is not asked of who wrote it, who asks others for it', async () => {
    const mayNot = 'You wrote a part of it: somebody else approves it.';
    const sent = await show({ mayNot }, 'editor', { 'POST workspaces/dues/review/requests': undefined });
    const here = await approval();
    expect(here.getByText(mayNot)).toBeTruthy();
    expect(here.queryByRole('button', { name: 'Approve' })).toBeNull();
    await userEvent.click(here.getByRole('button', { name: 'Ask for approval' }));
    expect(sent.changed).toMatchObject([{ path: 'workspaces/dues/review/requests' }]);
  });
});

describe('what lacks approval', () => {
  const missing = ['one approval'];
  test('is not released by a releaser', async () => {
    const sent = await show({ missing }, 'releaser');
    const button = await screen.findByRole('button', { name: 'Release to production' });
    await waitFor(() => expect(button.getAttribute('aria-disabled')).toBe('true'));
    await userEvent.click(button);
    expect(sent.changed).toEqual([]);
  });
  test('is released by an administrator who says why', async () => {
    const sent = await show({ missing }, 'administrator', { 'POST workspaces/dues/release': { id: 12 } });
    const why = await screen.findByRole('textbox', { name: /^Why without one approval/ });
    await userEvent.type(why, 'Urgent.');
    await userEvent.click(screen.getByRole('button', { name: 'Release to production' }));
    expect(sent.changed).toMatchObject([{ body: { message: 'Berths have a length', override: 'Urgent.' } }]);
  });
});

describe('remarks', () => {
  test.each<[Remark['place'], number | null, string]>([
    [{ kind: 'whole' }, null, 'the whole'],
    [LINE, 5, 'core/dim_berth.sql, line 5'],
    [LINE, null, 'core/dim_berth.sql, a line that is gone: select 2'],
    [{ kind: 'column', table: 'core.a', column: 'x' }, null, 'core.a.x'],
    [{ kind: 'rows', table: 'core.a', rows: 'only there' }, null, 'core.a, rows only in production'],
  ])('stand somewhere: %j', (place, line, words) => expect(placeWords(place, line)).toBe(words));

  test('on lines are below the file; one is made on a line that is chosen', async () => {
    const sent = await show({ remarks: [remarkOf(1, LINE)] }, 'editor', {
      'POST workspaces/dues/review/remarks': undefined,
    });
    const here = within(await screen.findByRole('region', { name: 'Remarks here' }));
    expect(here.getByText('1 remark, 1 open')).toBeTruthy();
    await userEvent.type(here.getByRole('spinbutton', { name: /On line/ }), '2');
    await userEvent.type(here.getByRole('textbox', { name: 'Remark on line 2' }), 'Metres?');
    await userEvent.click(here.getByRole('button', { name: 'Add remark' }));
    expect(sent.changed).toMatchObject([
      { body: { kind: 'line', path: 'core/dim_berth.sql', line: 2, text: 'Metres?' } },
    ]);
  });
  test('are answered and resolved', async () => {
    const sent = await show({ remarks: [remarkOf(7, { kind: 'whole' })] }, 'editor', {
      'POST workspaces/dues/review/remarks/7/answers': undefined,
      'POST workspaces/dues/review/remarks/7/resolution': undefined,
    });
    const here = within(await screen.findByRole('region', { name: 'Remarks' }));
    await userEvent.click(here.getByRole('button', { name: 'Answer' }));
    await userEvent.type(here.getByRole('textbox', { name: 'Answer' }), 'Because.');
    await userEvent.click(here.getByRole('button', { name: 'Answer' }));
    await userEvent.click(await here.findByRole('button', { name: 'Resolve' }));
    expect(sent.changed.map((s) => s.body)).toEqual([{ text: 'Because.' }, { resolved: true }]);
  });
  test('elsewhere are listed with where they lead, but for those that are resolved', async () => {
    const place = { kind: 'rows', table: 'core.dim_berth', rows: 'different' } as const;
    const resolved = { person: 'Ola', at: AT } as const;
    await show({ remarks: [remarkOf(1, LINE), remarkOf(2, place), remarkOf(3, LINE, { resolved })] });
    const here = within(await screen.findByRole('region', { name: 'Remarks' }));
    expect(here.getByText('2 of 3 open')).toBeTruthy();
    expect(here.getAllByRole('link').map((l) => l.getAttribute('href'))).toEqual([
      '/w/dues/releases?file=core%2Fdim_berth.sql',
      '/w/dues/releases?rows=core.dim_berth',
    ]);
  });
  test('on rows are made where the rows are', async () => {
    const sent = await show(
      {},
      'editor',
      { 'POST workspaces/dues/review/remarks': undefined, 'GET workspaces/dues/compared/counts': { isSame: true } },
      '/w/dues/releases?rows=core.dim_berth',
    );
    const here = within(await screen.findByRole('region', { name: 'Remarks here' }));
    await userEvent.click(here.getByRole('button', { name: /Remarks here/ }));
    await userEvent.selectOptions(here.getByRole('combobox', { name: 'On' }), 'the rows only here');
    await userEvent.type(here.getByRole('textbox', { name: 'Remark on the rows or a column' }), 'Who?');
    await userEvent.click(here.getByRole('button', { name: 'Add remark' }));
    expect(sent.changed).toMatchObject([{ body: { kind: 'rows', table: 'core.dim_berth', rows: 'only here' } }]);
  });
  test('a viewer reads them and makes none', async () => {
    await show({ remarks: [remarkOf(7, { kind: 'whole' })], mayNot: 'It needs the role editor.' }, 'viewer');
    const here = within(await screen.findByRole('region', { name: 'Remarks' }));
    expect(here.getByRole('button', { name: 'Answer' }).getAttribute('aria-disabled')).toBe('true');
  });
});
