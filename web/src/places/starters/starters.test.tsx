/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Person } from '@ouvrage/api/people';
import { around, FILES, Problem, renderPlace, serve, type Sent } from '../../testing';

const { default: Starters } = await import('./starters');
afterEach(cleanup);

const MORE = {
  ...FILES,
  'layers.sql':
    'create schema landing; create schema reference; create schema staging; create schema core; create schema mart;',
  'sources/port.sql': `create server port foreign data wrapper postgres_fdw;
create foreign table landing.berth (berth_code text not null, length_m numeric(6,1), primary key (berth_code)) server port;
create foreign table landing.stay (stay_no integer not null, berth_code text references landing.berth (berth_code), cargo text, tonnes numeric(10,2), came timestamptz, primary key (stay_no)) server port;`,
  'staging/stay.sql':
    'create table staging.stay (stay_no integer primary key, berth_code text, cargo text, tonnes numeric(10,2), came date) with (load = rebuild);\nselect stay_no, berth_code, cargo, tonnes, came::date as came from landing.stay;',
  'reference/target.csv': 'berth_code,tonnes\nA,100\n',
  'reference/target.sql': 'create table reference.target (berth_code text primary key, tonnes numeric(10,2));',
};

const show = async (starter: string, table: string, { role = 'editor' as Person['role'], answers = {} } = {}) => {
  const files = { ...(around(role)['GET workspaces/dues/files'] as object), files: MORE };
  const sent = serve({
    ...around(role),
    'GET workspaces/dues/files': files,
    'POST workspaces/dues/describe': [{ name: 'x', type: 'text' }],
    'POST workspaces/dues/profile': new Problem(409, 'not built'),
    'POST workspaces/dues/preview': new Problem(409, 'not built'),
    'PUT workspaces/dues/drafts': ({ body }: Sent) => ({
      ...(body as object),
      version: 1,
      by: 'Jonas',
      at: '2026-01-01T00:00:00Z',
      isNew: true,
    }),
    ...answers,
  });
  await renderPlace(<Starters />, { at: `/w/dues/new/${starter}?table=${table}`, route: '/w/:ws/new/:starter' });
  await screen.findByRole('navigation', { name: 'Starters' });
  return sent;
};

const tick = (legend: string, column: string) =>
  userEvent.click(
    within(screen.getByRole('group', { name: legend })).getByRole('checkbox', { name: new RegExp(`^${column}`) }),
  );
const choose = (label: string, value: string) => userEvent.selectOptions(screen.getByLabelText(label), value);
const type = async (label: string, text: string) => {
  await userEvent.clear(screen.getByLabelText(label));
  await userEvent.type(screen.getByLabelText(label), text);
};

/** What is chosen in each starter, and the drafts that it saves. */
const CASES: readonly (readonly [
  starter: string,
  table: string,
  choices: () => Promise<unknown>,
  paths: readonly string[],
  texts: readonly RegExp[],
])[] = [
  [
    'clean',
    'landing.stay',
    () => type('Only rows where', 'tonnes > 0'),
    ['staging/stay_2.sql'],
    [/from landing\.stay\nwhere \(tonnes > 0\)/],
  ],
  [
    'summarise',
    'staging.stay',
    () => tick('One row for each', 'berth_code'),
    ['mart/stay_by_berth_code.sql'],
    [/select\n {2}berth_code,\n {2}count\(\*\) as row_count\nfrom staging\.stay\ngroup by/],
  ],
  [
    'split',
    'staging.stay',
    () => type('Condition of part 1', 'tonnes > 100'),
    ['staging/stay_1.sql'],
    [/where \(tonnes > 100\)/],
  ],
  [
    'dimension',
    'staging.berth',
    async () => tick('Business key', 'berth_code'),
    ['core/dim_berth_2.sql'],
    [/role 'valid from'[\s\S]*business_key = 'berth_code'/],
  ],
  [
    'fact',
    'staging.stay',
    async () => undefined,
    ['core/fact_stay.sql'],
    [/looked_up_by 'berth_code'[\s\S]*from staging\.stay/],
  ],
  ['dates', 'staging.stay', () => choose('the fiscal year begins in', 'July'), ['core/dim_date.sql'], [/fiscal_year/]],
];

describe('each starter saves the SQL of its choices as a draft', () => {
  test.each(CASES)('%s', async (starter, table, choices, paths, texts) => {
    const sent = await show(starter, table);
    await choices();
    // Names that are there already are refused where they are typed.
    const name = within(screen.getByRole('region', { name: 'The SQL' })).getAllByRole('textbox')[0] as HTMLInputElement;
    const wanted = paths[0]!.replace(/^.*\/|\.sql$/g, '');
    if (name.value !== wanted) {
      await userEvent.clear(name);
      await userEvent.type(name, wanted);
    }
    await userEvent.click(await screen.findByRole('button', { name: /^Save drafts?$/ }));
    await waitFor(() => expect(sent.changed.filter((s) => s.method === 'PUT').length).toBeGreaterThan(0));
    const drafts = sent.changed.filter((s) => s.method === 'PUT').map((s) => s.body as { path: string; text: string });
    expect(drafts.map((d) => d.path).slice(0, paths.length)).toEqual(paths);
    for (const [i, text] of texts.entries()) expect(drafts[i]!.text).toMatch(text);
    await waitFor(() =>
      expect(screen.getByLabelText('address').textContent).toBe(
        `/w/dues/tables/${paths[0]!.replace('/', '.').replace('.sql', '')}`,
      ),
    );
  });
});

describe('a draft is not saved', () => {
  test.each<[string, string, string, Person['role'], string]>([
    [
      'under a name that is there',
      'summarise',
      'dim_berth',
      'editor',
      'core/dim_berth.sql exists already: choose another name.',
    ],
    [
      'under a name that PostgreSQL would quote',
      'summarise',
      'Total 1',
      'editor',
      'A table’s name has lower-case letters, digits and underscores, and begins with a letter.',
    ],
    ['by a viewer', 'summarise', 'total', 'viewer', 'Only editors can change the project; you are a viewer.'],
  ])('%s', async (_, starter, name, role, reason) => {
    const sent = await show(starter, 'staging.stay', { role });
    await choose('layer', 'core');
    await type('table', name);
    expect(await screen.findByText(reason)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Save draft' }));
    expect(sent.changed.filter((s) => s.method === 'PUT')).toEqual([]);
  });
  test('where the server refuses it, which is reported', async () => {
    await show('summarise', 'staging.stay', {
      answers: { 'PUT workspaces/dues/drafts': new Problem(409, 'Somebody has saved another') },
    });
    await userEvent.click(await screen.findByRole('button', { name: 'Save draft' }));
    expect(await screen.findByText('Somebody has saved another')).toBeTruthy();
  });
});

test('what the project and the database say of the query is shown below it', async () => {
  await show('summarise', 'staging.stay', {
    answers: {
      'POST workspaces/dues/describe': new Problem(422, 'column "x" does not exist', undefined, { error: { line: 3 } }),
    },
  });
  expect(await screen.findByText('column "x" does not exist (line 3)')).toBeTruthy();
  await type('Only rows where', 'nothing_here > 0');
  expect(await screen.findByText(/there is no column nothing_here/)).toBeTruthy();
});

test('an unknown starter is none', async () => {
  await show('x', 'staging.stay');
  expect(screen.getByText('This starter does not exist')).toBeTruthy();
});
