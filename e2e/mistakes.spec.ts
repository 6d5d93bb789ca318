import { expect, test } from '@playwright/test';
import { openWorkspace, signIn, watchConsole, write } from './support/app';

test('errors name the place and the nearest right name', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Mistakes');
  await page.goto(`/w/${slug}/tables/staging.berth`);
  const problems = page.getByRole('list', { name: 'Problems' });
  await write(page, 'select berth_code\nfrom landing.berth wher x');
  await expect(problems).toContainText('2:25syntax error at or near "x"');
  await write(page, 'select b.berth_cod from landing.berth b');
  await expect(problems).toContainText('b has no column berth_cod did you mean berth_code?');
  await problems.getByRole('button', { name: 'Replace with berth_code' }).click();
  await expect(page.locator('.cm-content').first()).toHaveText('select b.berth_code from landing.berth b');
  await expect(problems).not.toContainText('berth_cod did you mean');
  await write(page, 'select berth_code from landing.brth');
  await expect(problems).toContainText('did you mean landing.berth?');
  await write(page, 'select terminal_code as berth_code from core.dim_berth');
  await expect(problems).toContainText('which is in a later layer');
  await page.goto(`/w/${slug}/tables/core.dim_port`);
  await write(page, 'select port_code from core.dim_port');
  await expect(problems).toContainText('core.dim_port reads itself: core.dim_port reads core.dim_port');
  await write(page, 'select port_code, (port_name::date) as d, flag_code from staging.port');
  await page.keyboard.press('Control+Enter');
  // PostgreSQL says the value; its place in the text and its row are found.
  await expect(page.getByRole('alert')).toContainText(
    'invalid input syntax for type date: "Saltmere" core/dim_port.sql line 1, column 19',
  );
  await expect(page.getByRole('grid', { name: 'Rows at fault of core.dim_port' })).toContainText('Saltmere');
  await write(page, 'select port_code,\n  no_such(port_name) as d, flag_code from staging.port');
  // The database is asked a moment after the last keystroke.
  await expect(problems).toContainText('2:3function no_such(text) does not exist');
  await page.keyboard.press('Control+Enter');
  await expect(page.getByRole('alert')).toContainText('core/dim_port.sql line 2, column 3');
  // Typed text outlives a change of place.
  await page.getByRole('link', { name: 'Quality' }).click();
  await page.goBack();
  await expect(page.locator('.cm-content').first()).toContainText('no_such(port_name)');
  expect(messages).toEqual([]);
});

test('a run that rows stop shows the line and the row, and goes on once the line is mended', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Stopped');
  await page.goto(`/w/${slug}/tables/staging.berth`);
  const query = (length: string) =>
    `select b.berth_code, b.terminal_code, trim(b.berth_name) as berth_name,\n  ${length} as length_m, b.depth_m, b.changed_at\nfrom landing.berth b;`;
  const text = (length: string) => `create table staging.berth as\n${query(length)}\n`;
  await write(page, text("b.length_m / nullif(b.berth_code <> 'NQ-2', false)::integer"));
  await page.getByRole('button', { name: 'Preview' }).click();
  await expect(page.getByRole('grid', { name: 'Rows of staging.berth' })).toContainText('NQ-2');
  await write(page, text("b.length_m / (b.berth_code <> 'NQ-2')::integer"));
  await page.getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByText('unsaved')).toHaveCount(0);
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.locator('header').getByText('failed')).toBeVisible();
  await page.getByRole('button', { name: 'staging.berth', exact: true }).click();
  const alert = page.getByRole('alert');
  await expect(alert).toContainText('division by zero');
  await expect(alert).toContainText('staging/berth.sql line 3, column 3');
  await expect(alert).toContainText('The error comes from this row of landing.berth:');
  await expect(page.getByRole('grid', { name: 'Rows at fault of staging.berth' })).toContainText('NQ-2');
  await alert.getByRole('link', { name: 'staging/berth.sql' }).click();
  await expect(page).toHaveURL(/tables\/staging.berth\?at=3.3$/);
  await expect(page.locator('.cm-activeLine').first()).toContainText('b.length_m / (b.berth_code');
  await write(page, text('b.length_m'));
  await page.getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByText('unsaved')).toHaveCount(0);
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  expect(messages).toEqual([]);
});
