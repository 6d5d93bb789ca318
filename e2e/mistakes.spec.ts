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
  await write(page, 'select berth_code from landing.brth');
  await expect(problems).toContainText('did you mean landing.berth?');
  await write(page, 'select terminal_code as berth_code from core.dim_berth');
  await expect(problems).toContainText('which is of a later layer');
  await page.goto(`/w/${slug}/tables/core.dim_port`);
  await write(page, 'select port_code from core.dim_port');
  await expect(problems).toContainText('core.dim_port reads itself: core.dim_port reads core.dim_port');
  await write(page, 'select port_code, (port_name::date) as d, flag_code from staging.port');
  await page.keyboard.press('Control+Enter');
  // A value that cannot be cast has no place in the text; PostgreSQL says the value.
  await expect(page.getByRole('alert')).toContainText('invalid input syntax for type date: "Saltmere"');
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
