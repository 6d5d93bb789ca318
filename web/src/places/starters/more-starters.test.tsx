/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, Lines, Problem, renderPlace, serve, type Sent } from '../../testing';

const { default: Starters } = await import('./starters');
afterEach(cleanup);

/** Stays point to berths by a declared key; crews by the name of a column alone. */
const PROJECT = {
  ...FILES,
  'layers.sql':
    'create schema landing; create schema reference; create schema staging; create schema core; create schema mart;',
  'staging/berth.sql':
    'create table staging.berth (berth_code text primary key, length_m numeric(6,1)) with (load = rebuild);\nselect berth_code, length_m from landing.berth;',
  'staging/stay.sql':
    'create table staging.stay (stay_no integer primary key, berth_code text references staging.berth (berth_code), cargo text, tonnes numeric(10,2)) with (load = rebuild);\nselect 1 as stay_no, berth_code, berth_code as cargo, length_m as tonnes from landing.berth;',
  'staging/old_stay.sql':
    'create table staging.old_stay (no bigint primary key, place text, tonnes text) with (load = rebuild);\nselect 1::bigint as no, berth_code as place, berth_code as tonnes from landing.berth;',
  'mart/by_cargo.sql':
    'create table mart.by_cargo (berth_code text primary key, coal numeric, grain numeric) with (load = rebuild);\nselect berth_code, length_m as coal, length_m as grain from landing.berth;',
  'staging/came.sql':
    'create table staging.came (berth_code text, came_on date) with (load = rebuild);\nselect berth_code, null::date as came_on from landing.berth;',
  'reference/target.csv': 'berth_code,tonnes_target\nA,100\n',
  'reference/target.sql': 'create table reference.target (berth_code text primary key, tonnes_target numeric(10,2));',
};
const rows = (found: readonly (readonly (string | null)[])[], total: number | null = found.length) => ({
  columns: [],
  rows: found,
  total,
  milliseconds: 1,
  sql: '',
  inlined: [],
  isFull: false,
});
const show = async (starter: string, table: string, answers: object = {}) => {
  const files = { ...(around()['GET workspaces/dues/files'] as object), files: PROJECT };
  const sent = serve({
    ...around(),
    'GET workspaces/dues/files': files,
    'POST workspaces/dues/describe': [{ name: 'x', type: 'text' }],
    'POST workspaces/dues/preview': rows([]),
    ...answers,
  });
  await renderPlace(<Starters />, { at: `/w/dues/new/${starter}?table=${table}`, route: '/w/:ws/new/:starter' });
  await screen.findByRole('navigation', { name: 'Starters' });
  return sent;
};
/** The SQL that would be saved. */
const sql = () =>
  [...screen.getByRole('region', { name: 'The SQL' }).querySelectorAll('.cm-content')]
    .map((c) => (c as HTMLElement).textContent)
    .join('\n');
const has = (text: RegExp) => waitFor(() => expect(sql()).toMatch(text));
const tick = (legend: string, column: string) =>
  userEvent.click(
    within(screen.getByRole('group', { name: legend })).getByRole('checkbox', { name: new RegExp(`^${column}`) }),
  );
const choose = (label: string, value: string) => userEvent.selectOptions(screen.getByLabelText(label), value);

describe('pivot', () => {
  test('values found in the data become columns, renamed and left out', async () => {
    const sent = await show('pivot', 'staging.stay', {
      'POST workspaces/dues/preview': rows([['coal'], ['grain'], [null]], 90),
    });
    expect(screen.getByText('Choose the column whose values become columns.')).toBeTruthy();
    await tick('One row for each', 'berth_code');
    await choose('Column whose values become columns', 'cargo');
    await waitFor(() =>
      expect(sent.changed.some((s) => (s.body as { text?: string }).text?.includes('cargo::text'))).toBe(true),
    );
    await userEvent.click(await screen.findByRole('button', { name: 'Take the 3 values found' }));
    expect(screen.getByText('there are more; these are the most frequent')).toBeTruthy();
    await choose('measure', 'sum');
    await choose('Column of the measure', 'tonnes');
    fireEvent.change(screen.getByLabelText('Name of the column for grain'), { target: { value: 'grain_t' } });
    await userEvent.click(screen.getByRole('button', { name: 'Leave out null' }));
    await has(/sum\(tonnes\) filter \(where cargo = 'coal'\) as coal/);
    await has(/as grain_t/);
    expect(sql()).not.toMatch(/is null/);
  });
  test('columns become rows', async () => {
    await show('pivot', 'mart.by_cargo');
    await userEvent.click(screen.getByRole('radio', { name: 'Columns to rows' }));
    expect(screen.getByText('Choose the columns that become rows.')).toBeTruthy();
    await tick('Become rows', 'coal');
    await tick('Become rows', 'grain');
    fireEvent.change(screen.getByLabelText('column of names'), { target: { value: 'cargo' } });
    fireEvent.change(screen.getByLabelText('column of values'), { target: { value: 'tonnes' } });
    await has(/cargo/);
    await has(/'grain'/);
    await userEvent.click(screen.getByLabelText(/leave out/));
    await waitFor(() => expect(sql()).not.toMatch(/is not null/));
  });
  test('a failure of the database is reported', async () => {
    await show('pivot', 'staging.stay', {
      'POST workspaces/dues/preview': new Problem(503, 'The database does not answer'),
    });
    await choose('Column whose values become columns', 'cargo');
    expect(await screen.findByText('The database does not answer')).toBeTruthy();
  });
});

describe('a summary', () => {
  test('of periods, of chosen groups, the greatest first', async () => {
    await show('summarise', 'staging.came');
    await tick('One row for each', 'came_on');
    await choose('Period of came_on', 'quarter');
    fireEvent.change(screen.getByLabelText('Only groups where'), { target: { value: 'count(*) > 2' } });
    fireEvent.change(screen.getByLabelText('only the first'), { target: { value: '5' } });
    expect(screen.getByText(/^Choose by what groups are sorted/)).toBeTruthy();
    await choose('Sorted by', 'row_count');
    await has(/date_trunc\('quarter', came_on\)::date as came_quarter/);
    await has(/having \(count\(\*\) > 2\).*order by row_count desc nulls last.*limit 5/s);
    fireEvent.change(screen.getByLabelText('only the first'), { target: { value: 'five' } });
    expect(await screen.findByText(/^Write how many groups stay as a whole number/)).toBeTruthy();
  });
});

describe('values that fail a cast', () => {
  const clean = async (answer: unknown) => {
    const sent = await show('clean', 'landing.berth', { 'POST workspaces/dues/casts': answer });
    fireEvent.change(await screen.findByLabelText('Cast of berth_code'), { target: { value: 'date' } });
    await userEvent.click(screen.getByRole('button', { name: 'Count values that fail a cast' }));
    return sent;
  };
  test('are counted, all of them', async () => {
    const sent = await clean({
      casts: [{ column: 'berth_code', type: 'date', failing: 1200, different: 9, examples: ['x', 'y'] }],
      rowsLookedAt: 200_000,
      milliseconds: 3,
    });
    const list = await screen.findByRole('list', { name: 'Values that fail a cast' });
    expect(list.textContent).toBe("berth_code as date: 1,200 rows, 9 values: 'x', 'y' …");
    const [asked] = sent.changed.filter((s) => s.path === 'workspaces/dues/casts');
    expect(asked!.body).toMatchObject({ casts: [{ column: 'berth_code', type: 'date' }] });
    expect((asked!.body as { text: string }).text).not.toMatch(/::date/);
  });
  test('or all fit', async () => {
    await clean({
      casts: [{ column: 'berth_code', type: 'date', failing: 0, different: 0, examples: [] }],
      rowsLookedAt: 200_000,
      milliseconds: 3,
    });
    expect(await screen.findByText(/^All values fit/)).toBeTruthy();
  });
  test('and a type that there is not is told', async () => {
    await clean(new Problem(422, 'type "dat" does not exist'));
    expect(await screen.findByText('type "dat" does not exist')).toBeTruthy();
  });
});

describe('a reference table from a file', () => {
  const choose_ = async (text: string, name = 'Rate classes.csv') =>
    userEvent.upload(screen.getByLabelText('File of values'), new File([text], name));
  test('is proposed with its types, and saved as two files', async () => {
    const sent = await show('reference', 'staging.stay', {
      'PUT workspaces/dues/drafts': ({ body }: Sent) => ({
        ...(body as object),
        version: 1,
        by: 'Jonas',
        at: '2026-01-01T00:00:00Z',
      }),
    });
    expect(screen.getByRole('button', { name: 'Save drafts' }).getAttribute('aria-disabled')).toBe('true');
    await choose_('Class;fee\nA;1,5\nB;2,25\n');
    expect(((await screen.findByLabelText('Name of the table')) as HTMLInputElement).value).toBe('rate_classes');
    expect((screen.getByLabelText('Type of fee') as HTMLInputElement).value).toBe('numeric');
    fireEvent.change(screen.getByLabelText('Description of fee'), { target: { value: 'Per ton.' } });
    await userEvent.click(screen.getByRole('button', { name: 'Save drafts' }));
    await waitFor(() => expect(sent.changed.filter((s) => s.method === 'PUT')).toHaveLength(2));
    expect(sent.changed.filter((s) => s.method === 'PUT').map((s) => s.body)).toEqual([
      {
        path: 'reference/rate_classes.sql',
        text: "create table reference.rate_classes (\n  class text,\n  fee numeric not null,\n  primary key (class)\n);\ncomment on column reference.rate_classes.fee is 'Per ton.';\n",
        version: 0,
      },
      { path: 'reference/rate_classes.csv', text: 'class,fee\nA,1.5\nB,2.25\n', version: 0 },
    ]);
    await waitFor(() =>
      expect(screen.getByLabelText('address').textContent).toBe('/w/dues/tables/reference.rate_classes/values'),
    );
  });
  test('tells all values that do not fit before it is saved', async () => {
    await show('reference', 'staging.stay');
    await choose_('a,b\n1,2026-01-01\n2,soon\n3,later\n');
    fireEvent.change(await screen.findByLabelText('Type of b'), { target: { value: 'date' } });
    const wrong = await screen.findByRole('region', { name: 'What does not fit' });
    expect(wrong.textContent).toContain('2 values wrong');
    expect(wrong.textContent).toContain('row 2b“soon” is not a date');
    expect(wrong.textContent).toContain('row 3b“later” is not a date');
  });
  test('tells lines that are no rows, files that are no text, and names that are there', async () => {
    await show('reference', 'staging.stay');
    await choose_('a,b\n1\n');
    expect((await screen.findByRole('alert')).textContent).toContain('line 2 the line has 1 fields, the header 2');
    await choose_('PK\0\0', 'sheet.csv');
    expect(await screen.findByText('sheet.csv is not a text file: save the sheet as CSV first.')).toBeTruthy();
    fireEvent.change(screen.getByLabelText('Or paste the values here'), { target: { value: 'a\n1\n' } });
    fireEvent.change(screen.getByLabelText('Name of the table'), { target: { value: 'target' } });
    await userEvent.hover(screen.getByRole('button', { name: 'Save drafts' }));
    expect((await screen.findAllByText(/There is a table reference.target/)).length).toBeGreaterThan(0);
  });
});

describe('targets', () => {
  test('are held against what was achieved, by the columns that both have', async () => {
    await show('target', 'staging.stay');
    expect(screen.getByText('Choose the table of what was achieved.')).toBeTruthy();
    await choose('What was achieved', 'staging.stay');
    await has(/sum\(tonnes\)/);
    await has(/from reference\.target/);
    fireEvent.change(screen.getByLabelText('Name 1'), { target: { value: 'weight' } });
    await has(/weight/);
    fireEvent.change(screen.getByLabelText('berth_code from staging.stay'), { target: { value: '' } });
    expect(await screen.findByText('Enter what in staging.stay gives berth_code.')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Leave out berth_code' }));
    await userEvent.click(screen.getByRole('button', { name: 'Remove measure 1' }));
    expect(await screen.findByText('Choose what is held against each target.')).toBeTruthy();
  });
});

describe('tables are stacked', () => {
  const second = async () => {
    await userEvent.click(screen.getByRole('button', { name: 'Add a table' }));
    await choose('Table 2', 'staging.old_stay');
  };
  test('matched by names, with types to be decided and columns left out', async () => {
    await show('stack', 'staging.stay');
    expect(screen.getByText('Choose two tables or more.')).toBeTruthy();
    await second();
    expect(await screen.findByText(/^Choose the type of tonnes/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText('Type of tonnes'), { target: { value: 'text' } });
    await has(/union all/);
    await userEvent.click(screen.getByRole('button', { name: 'Leave out cargo' }));
    await waitFor(() => expect(sql()).not.toMatch(/cargo/));
    await userEvent.click(screen.getByLabelText(/equal rows once/));
    await waitFor(() => expect(sql()).not.toMatch(/union all/));
    fireEvent.change(screen.getByLabelText('column that says the origin'), { target: { value: 'origin' } });
    await has(/'old_stay'[^']*as origin/);
  });
  test('the rest is matched by columns that tell rows apart, declared or not', async () => {
    await show('stack', 'staging.stay', {
      'POST workspaces/dues/preview': ({ body }: Sent) => {
        const { text, limit } = body as { text: string; limit: number };
        const isUnique = text.includes('as unique');
        return rows(
          Array.from({ length: limit }, (_, i) =>
            isUnique
              ? [String(i), /stay_no|\bno\b/.test(text.split('union all')[i]!) ? 'true' : 'false']
              : [String(i), '10', '0'],
          ),
        );
      },
    });
    await second();
    fireEvent.change(await screen.findByLabelText('Type of tonnes'), { target: { value: 'text' } });
    await userEvent.click(await screen.findByRole('button', { name: 'Match the rest by values' }));
    await has(/no as stay_no|stay_no::bigint/);
  });
  test('the rest is matched by values', async () => {
    const sent = await show('stack', 'staging.stay', {
      'POST workspaces/dues/preview': ({ body }: Sent) =>
        rows(Array.from({ length: (body as { limit: number }).limit }, (_, i) => [String(i), '10', '10', '10'])),
    });
    await second();
    await userEvent.click(await screen.findByRole('button', { name: 'Match the rest by values' }));
    expect(await screen.findByText(/pairs? of columns compared\.$/)).toBeTruthy();
    expect(sent.changed.some((s) => s.path === 'workspaces/dues/preview')).toBe(true);
  });
});

describe('related tables', () => {
  test('are joined along declared relations, and rows and partners of each join are counted', async () => {
    const step = (id: string, kind: string, more: object = {}) => ({
      id,
      kind,
      label: id,
      depth: 0,
      inputs: [],
      start: 0,
      end: 1,
      known: {},
      looks: [],
      ...more,
    });
    const steps = [
      step('source staging.stay', 'source', { table: 'staging.stay' }),
      step('join staging.berth', 'join', { join: 'inner' }),
      step('result', 'result', { rowsOf: ['join staging.berth'] }),
    ];
    const figure = (of: number, name: string, value: number) => ({ step: steps[of]!.id, figure: name, value });
    await show('related', 'staging.stay', {
      'POST workspaces/dues/anatomy': new Lines([
        { kind: 'steps', side: 'here', steps, asOf: '2026-01-01T00:00:00Z', seconds: 1, isHeld: false },
        {
          kind: 'figures',
          side: 'here',
          figures: [figure(0, 'rows', 100), figure(1, 'left', 100), figure(1, 'leftAlone', 7), figure(1, 'rows', 93)],
        },
      ]),
    });
    const around_ = screen.getByRole('region', { name: 'Related tables' });
    await userEvent.click(within(around_).getAllByRole('checkbox')[0]!);
    await userEvent.click(within(around_).getByRole('checkbox', { name: /^length_m/ }));
    await has(/left join staging\.berth/);
    await choose('Rows without a partner in staging.berth', 'inner');
    await has(/\njoin staging\.berth|[^t] ?join staging\.berth/);
    await userEvent.click(screen.getByRole('button', { name: 'Count rows before and after each join' }));
    expect(await screen.findByText('100 rows of staging.stay, 93 after the joins: not the same.')).toBeTruthy();
    const counts = screen.getByRole('region', { name: 'Rows of the joins' });
    expect(within(counts).getByText('7')).toBeTruthy();
  });
  test('one with several rows for each is summarised first', async () => {
    await show('related', 'staging.berth');
    const line = within(screen.getByRole('region', { name: 'Related tables' }))
      .getAllByRole('listitem')
      .find((l) => l.textContent?.includes('staging.stay'))!;
    expect(line.textContent).toContain('several rows');
    await userEvent.click(within(line).getAllByRole('checkbox')[0]!);
    await has(/count\(\*\) as stay_count/);
    expect(screen.queryByText(/rows are multiplied/)).toBeNull();
  });
  test('relations are looked for in the values', async () => {
    await show('related', 'staging.old_stay', { 'POST workspaces/dues/preview': rows([]) });
    await userEvent.click(screen.getByRole('button', { name: 'Look for relations in the values' }));
    await waitFor(() =>
      expect(screen.getAllByRole('status').some((s) => s.textContent?.includes('No relation found.'))).toBe(true),
    );
  });
});

describe('a vault', () => {
  test('is hubs, a link and a satellite over one source, each by its own name', async () => {
    await show('vault', 'staging.stay');
    const links = screen.getByRole('region', { name: 'Links' });
    expect((within(links).getByLabelText('What berth_code is called') as HTMLInputElement).value).toBe('berth');
    await has(/hub_stay|stay_hub/);
    await choose('Another key', 'cargo');
    fireEvent.change(await screen.findByLabelText('What cargo is called'), { target: { value: 'berth' } });
    expect(await screen.findByText('Two of them have the same name.')).toBeTruthy();
    fireEvent.change(screen.getByLabelText('What cargo is called'), { target: { value: 'Goods 1' } });
    expect(await screen.findByText('Names have lower-case letters, digits and underscores.')).toBeTruthy();
    fireEvent.change(screen.getByLabelText('What cargo is called'), { target: { value: 'goods' } });
    await userEvent.click(screen.getByLabelText(/a bridge over all links/));
    await userEvent.click(screen.getByLabelText(/version held at the end of each day/));
    expect(screen.getByLabelText('from')).toBeTruthy();
    await tick('Business key', 'stay_no');
    expect(await screen.findByText('Tick the business key: what tells one from another.')).toBeTruthy();
  });
});
