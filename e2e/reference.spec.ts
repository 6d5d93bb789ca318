import { expect, test } from '@playwright/test';
import { openWorkspace, signIn, watchConsole } from './support/app';

test('values of a reference table are changed in a grid and run; a wrong one is told at once', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'New targets');
  await page.goto(`/w/${slug}/tables/reference.terminal_target/values`);
  const cell = page.getByLabel('tonnage_target of row 1', { exact: true });
  await cell.fill('lots');
  await expect(page.getByText('1 value wrong: row 1, “lots” is not a number')).toBeVisible();
  await cell.fill('-5');
  await expect(
    page.getByText('1 value wrong: row 1, breaks terminal_target_tonnage_target_check: tonnage_target > 0'),
  ).toBeVisible();
  await cell.fill('1950000');
  await expect(page.getByText('every value is of its type, and the contract’s checks hold')).toBeVisible();
  await page.getByRole('button', { name: 'Add a row' }).click();
  await page.getByLabel('terminal_code of row 5').fill('NQ');
  await page.getByLabel('quarter of row 5').fill('2026-04-01');
  await page.getByLabel('tonnage_target of row 5').fill('2100000');
  await page.getByLabel('dues_target of row 5').fill('2200000');
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto(`/w/${slug}/tables/reference.terminal_target/rows`);
  await expect(page.getByText('5 of 5 rows')).toBeVisible();
  await expect(page.getByRole('gridcell', { name: '1,950,000.00' })).toBeVisible();
  expect(messages).toEqual([]);
});

test('columns are ticked in a drawing of the tables around one; a run takes other parameters', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Drawn');
  await page.goto(`/w/${slug}/new/related?table=landing.call`);
  await page.getByRole('button', { name: 'Look for relations in the values' }).click();
  await expect(page.getByText('2 relations guessed.')).toBeVisible();
  await expect(page.getByText('port_code = from_port')).toBeVisible();
  await expect(page.getByText('guessed: 100 % of values found')).toHaveCount(2);
  await page.getByRole('button', { name: 'Diagram' }).click();
  await page.getByLabel('vessel_name of landing.vessel').check();
  await page.getByLabel('owner_name of landing.owner').check();
  const sheet = page.getByRole('region', { name: 'The SQL' });
  await expect(sheet.getByText('left join landing.owner')).toBeVisible();
  await expect(sheet.getByText(/owner_name text/)).toBeVisible();
  await sheet.getByRole('button', { name: 'Preview' }).click();
  await expect(sheet.getByText('first 500 of 8')).toBeVisible();

  await page.goto(`/w/${slug}/tables/mart.vessel_dues`);
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'with other parameters …' }).click();
  await page.getByLabel('param.least_tonnage').fill('50000');
  await page.getByRole('button', { name: 'Run', exact: true }).click();
  await expect(page.getByText('least_tonnage = 50000')).toBeVisible();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  await page.goto(`/w/${slug}/settings/project`);
  const layers = page.getByRole('list', { name: 'Layers' }).getByRole('listitem');
  await expect(layers).toContainText(['landing', 'reference', 'staging', 'core', 'mart', 'vault']);
  await page.getByRole('button', { name: 'Move mart up' }).click();
  await expect(layers).toContainText(['landing', 'reference', 'staging', 'mart', 'core', 'vault']);
  await page.getByRole('button', { name: 'Move mart down' }).click();
  await expect(layers).toContainText(['landing', 'reference', 'staging', 'core', 'mart', 'vault']);
  expect(messages).toEqual([]);
});
