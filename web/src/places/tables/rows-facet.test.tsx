/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { PageAnswer } from '@ouvrage/api/rows';
import { around, FILES, openMenu, Problem, renderPlace, serve, type Sent } from '../../testing';

const { default: Tables } = await import('./tables');
afterEach(cleanup);

const HISTORY = `create table core.dim_berth (
  berth_key bigint options (role 'surrogate key') primary key,
  berth_code text not null,
  length_m numeric(6,1),
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to')
) with (load = history, business_key = 'berth_code');
select berth_code, length_m from staging.berth;`;

const page = (of: Partial<PageAnswer> = {}): PageAnswer => ({
  columns: [
    { name: 'berth_code', type: 'text' },
    { name: 'length_m', type: 'numeric(6,1)' },
  ],
  rows: [
    ['NQ-1', '120.0'],
    ['NQ-2', null],
  ],
  next: null,
  total: { rows: 2, exact: true },
  milliseconds: 8,
  where: 'here',
  ...of,
});
const show = async (answers: object = {}, query = '') => {
  const files = {
    ...(around()['GET workspaces/dues/files'] as object),
    files: { ...FILES, 'core/dim_berth.sql': HISTORY },
  };
  const sent = serve({
    ...around(),
    'GET workspaces/dues/files': files,
    'POST workspaces/dues/page': page(),
    ...answers,
  });
  await renderPlace(<Tables />, {
    at: `/w/dues/tables/core.dim_berth/rows${query}`,
    route: '/w/:ws/tables/:table?/:facet?',
  });
  return sent;
};
const asked = (sent: Awaited<ReturnType<typeof show>>) =>
  sent.changed.filter((s) => s.path.endsWith('/page')).at(-1)?.body as object;
const address = () => decodeURIComponent(screen.getByLabelText('address').textContent ?? '');

describe('what is sensitive', () => {
  test.each<[string, readonly string[], string]>([
    ['one column', ['owner'], 'without owner: sensitive, so viewers do not see it'],
    ['some', ['a', 'b'], 'without a, b: sensitive, so viewers do not see them'],
    ['many', ['a', 'b', 'c', 'd'], 'without 4 columns: sensitive, so viewers do not see them'],
  ])('is left out, and this is said: %s', async (_, leftOut, text) => {
    await show({ 'POST workspaces/dues/page': page({ leftOut }) });
    expect(await screen.findByText(text)).toBeTruthy();
  });
});

describe('rows are looked at', () => {
  test.each<[string, Partial<PageAnswer>, string[]]>([
    ['as built here', {}, ['as built in this workspace', '2 of 2 rows · 8 ms']],
    [
      'from production, roughly counted',
      { where: 'production', total: { rows: 90_000, exact: false } },
      ['from production', '2 of about 90,000 rows'],
    ],
    ['from the query', { where: 'nowhere' }, ['from the query: it is not built here yet']],
    ['where there are none', { rows: [] }, ['The table has no rows']],
  ])('%s', async (_, of, texts) => {
    await show({ 'POST workspaces/dues/page': page(of) });
    for (const text of texts) await waitFor(() => expect(document.body.textContent).toContain(text));
  });
  test('and a failure is reported, and tried again', async () => {
    let times = 0;
    await show({
      'POST workspaces/dues/page': () => (times++ ? page() : new Problem(503, 'The database does not answer')),
    });
    await userEvent.click(await screen.findByRole('button', { name: /again/i }));
    expect(await screen.findByText('NQ-1')).toBeTruthy();
  });
  test('the address holds filters, order and columns', async () => {
    const sent = await show();
    await screen.findByText('NQ-1');
    await userEvent.click(screen.getByRole('button', { name: 'Filter' }));
    await userEvent.selectOptions(screen.getByLabelText('Column'), 'length_m');
    await userEvent.selectOptions(screen.getByLabelText('Comparison'), '>=');
    await userEvent.type(screen.getByLabelText('Value'), '100{Enter}');
    await waitFor(() =>
      expect(asked(sent)).toMatchObject({ filters: [{ column: 'length_m', op: '>=', value: '100' }] }),
    );
    expect(address()).toContain('"op":">="');
    await userEvent.click(await screen.findByRole('button', { name: 'length_m' }));
    await waitFor(() => expect(asked(sent)).toMatchObject({ sort: [{ column: 'length_m', descending: false }] }));
    await userEvent.click(within(screen.getByRole('grid')).getByRole('button', { name: /^length_m/ }));
    await waitFor(() => expect(asked(sent)).toMatchObject({ sort: [{ column: 'length_m', descending: true }] }));
    await userEvent.click(await screen.findByRole('button', { name: 'Remove the filter length_m >= 100' }));
    await waitFor(() => expect(asked(sent)).toMatchObject({ filters: [] }));
  });
  test('a link shows the same rows; a broken one shows all', async () => {
    const look = { filters: [{ column: 'berth_code', op: '=', value: 'NQ-1' }] };
    const sent = await show({}, `?look=${encodeURIComponent(JSON.stringify(look))}`);
    await waitFor(() => expect(asked(sent)).toMatchObject(look));
    cleanup();
    const broken = await show({}, '?look=%7Bnot');
    await waitFor(() => expect(asked(broken)).toMatchObject({ filters: [], show: [], sort: [] }));
  });
  test('they are saved in three formats', async () => {
    await show();
    await screen.findByText('NQ-1');
    openMenu('Save as');
    const items = await screen.findAllByRole('menuitem');
    expect(items.map((i) => i.textContent)).toEqual(['CSV, all rows', 'JSON lines, all rows', 'Parquet, all rows']);
    expect((items[2] as HTMLAnchorElement).href).toContain('parquet');
  });
});

describe('a history is looked at through time', () => {
  const versions = {
    columns: ['berth_code', 'length_m', 'valid_from', 'valid_to'].map((name) => ({ name, type: 'text' })),
    rows: [
      ['NQ-1', '100.0', '2026-01-01', '2026-02-01'],
      ['NQ-1', '120.0', '2026-02-01', null],
    ],
    total: 2,
    milliseconds: 3,
    sql: '',
    inlined: [],
    isFull: false,
  };
  const texts = (sent: Awaited<ReturnType<typeof show>>) =>
    sent.changed.filter((s) => s.path.endsWith('/preview')).map((s) => (s.body as { text: string }).text);
  test('as of today first, then as of another date', async () => {
    const sent = await show({ 'POST workspaces/dues/preview': versions }, '?view=versions');
    await screen.findByText('2 rows');
    expect(texts(sent)[0]).toMatch(/valid_from/);
    const field = screen.getByLabelText('As of the end of');
    await userEvent.clear(field);
    await userEvent.type(field, '2026-01-15');
    fireEvent.blur(field);
    await userEvent.click(screen.getByRole('button', { name: 'Show' }));
    await waitFor(() => expect(texts(sent).at(-1)).toContain('2026-01-15 23:59:59.999999+00'));
  });
  test('a row leads to all versions of its key, each with what changed', async () => {
    const sent = await show({ 'POST workspaces/dues/preview': versions }, '?view=versions');
    fireEvent.doubleClick((await screen.findAllByText('NQ-1'))[0]!.closest('[role=row]')!);
    const list = await screen.findByRole('list', { name: 'Versions, oldest first' });
    expect(within(list).getAllByRole('listitem').length).toBe(2);
    expect(list.textContent).toContain('100.0 120.0');
    expect(texts(sent).at(-1)).toContain("'NQ-1'");
    expect((screen.getByLabelText('What to see') as HTMLSelectElement).value).toBe('key');
  });
  test.each<[string, string]>([
    ['compare', 'Nothing differs between these dates'],
    ['key', 'No version of this key'],
    ['as of', 'No version was valid on that date'],
  ])('nothing found (%s) says so', async (kind, text) => {
    await show({ 'POST workspaces/dues/preview': { ...versions, rows: [], total: 0 } }, '?view=versions');
    await userEvent.selectOptions(await screen.findByLabelText('What to see'), kind);
    await userEvent.click(await screen.findByRole('button', { name: 'Show' }));
    expect(await screen.findByText(text)).toBeTruthy();
  });
  test('a failure is reported', async () => {
    await show(
      { 'POST workspaces/dues/preview': (_: Sent) => new Problem(409, 'It is not built yet') },
      '?view=versions',
    );
    expect(await screen.findByText('It is not built yet')).toBeTruthy();
  });
});
