/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { CheckState } from '@ouvrage/api/quality';
import { around, checkOf, renderPlace, serve } from '../../testing';

const { default: Quality } = await import('./quality');
afterEach(cleanup);

/** A project with these checks, each a condition of its table's contract, and what was last found of them. */
const show = async (checks: readonly CheckState[]) => {
  const tables = new Map<string, CheckState[]>();
  for (const c of checks) tables.set(c.table, [...(tables.get(c.table) ?? []), c]);
  const contract = (table: string, list: readonly CheckState[]) =>
    `create table ${table} (x integer${list.map((c) => `,\n  constraint ${c.id.split('/')[1]!} check (${c.title})`).join('')})${options(list)};\nselect 1 as x;\n`;
  const files = Object.fromEntries(
    [...tables].map(([table, list]) => [`${table.replace('.', '/')}.sql`, contract(table, list)]),
  );
  const all = around();
  serve({
    ...all,
    'GET workspaces/dues/files': {
      ...(all['GET workspaces/dues/files'] as object),
      files: { 'layers.sql': 'create schema core;', ...files },
    },
    'GET workspaces/dues/state': { tables: [], checks: checks.filter((c) => c.verdict !== 'not run') },
    'GET workspaces/dues/check-history': [],
  });
  await renderPlace(<Quality />, { at: '/w/dues/quality', route: '/w/:ws/quality/*' });
};

const options = (list: readonly CheckState[]) => {
  const advisory = list.filter((c) => c.advisory).map((c) => c.id.split('/')[1]!);
  const tolerated = list
    .filter((c) => c.tolerate)
    .map((c) => `${c.id.split('/')[1]!} ${c.tolerate!.replace(' %', '%')}`);
  const set = [
    ...(advisory.length ? [`advisory = '${advisory.join(', ')}'`] : []),
    ...(tolerated.length ? [`tolerate = '${tolerated.join(', ')}'`] : []),
  ];
  return set.length ? ` with (${set.join(', ')})` : '';
};

test('a project without checks says where they are written', async () => {
  await show([]);
  expect(await screen.findByText('The project has no checks yet')).toBeTruthy();
});

test('tables with broken checks come first, the worst check first within each, and a verdict narrows them', async () => {
  await show([
    checkOf('core.a/one', { table: 'core.a', title: 'x > 1', verdict: 'holds', atFault: '0' }),
    checkOf('core.b/two', { table: 'core.b', title: 'x > 2', verdict: 'holds', atFault: '0' }),
    checkOf('core.b/three', { table: 'core.b', title: 'x > 3', verdict: 'broken', atFault: '1200', advisory: false }),
    checkOf('core.c/four', { table: 'core.c', title: 'x > 4', verdict: 'advisory', advisory: true, tolerate: '5 %' }),
    checkOf('core.c/five', { table: 'core.c', title: 'x > 5', verdict: 'not run' }),
  ]);
  const list = await screen.findByRole('complementary', { name: 'Checks' });
  expect(
    within(list)
      .getAllByRole('listitem')
      .map((i) => i.textContent),
  ).toEqual([
    'core.b2 checks',
    'brokenx > 31,200',
    'holdsx > 20',
    'core.c2 checks',
    'advisoryx > 4advisorytolerates 5 %–',
    'not runx > 5–',
    'core.a1 check',
    'holdsx > 10',
  ]);
  await userEvent.click(
    within(screen.getByRole('group', { name: 'Only checks that' })).getByRole('button', { name: /^advisory/ }),
  );
  expect(within(list).getAllByRole('listitem')).toHaveLength(2);
  await userEvent.click(within(list).getByRole('button', { name: /x > 4/ }));
  await waitFor(() => expect(screen.getByLabelText('address').textContent).toContain('/w/dues/quality/core.c'));
});

test('of many checks only those in sight are in the page', async () => {
  await show(
    Array.from({ length: 2000 }, (_, i) =>
      checkOf(`core.t${i % 400}/c${i}`, { table: `core.t${i % 400}`, title: `x > ${i}` }),
    ),
  );
  const list = await screen.findByRole('list', { name: 'Checks by table' });
  expect(within(list).getAllByRole('listitem').length).toBeLessThan(100);
  expect(within(list).getAllByRole('listitem')[0]!.getAttribute('aria-setsize')).toBe('2400');
});
