import { expect, test } from '@playwright/test';
import { editorText, openWorkspace, signIn, watchConsole, write } from './support/app';

test('a newcomer takes a change from a source row to a released fact', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'First change');

  // Source rows.
  await page.getByRole('link', { name: 'Sources' }).click();
  await page.getByRole('link', { name: 'landing.call', exact: true }).click();
  await expect(
    page.getByRole('grid', { name: 'Rows of landing.call' }).getByRole('gridcell', { name: 'C000001' }),
  ).toBeVisible();

  // A staging query, previewed.
  await page.goto(`/w/${slug}/tables/staging.call`);
  const before = await editorText(page, slug, 'staging/call.sql');
  const doubled = before.replace('select distinct on (c.call_no)\n', 'select\n').replace(/order by[^;]*;/, ';');
  await write(page, doubled);
  await page.keyboard.press('Control+Enter');
  await expect(page.getByText(/all 884 rows|first 500 of 884 rows/)).toBeVisible();
  await page.keyboard.press('Control+s');
  await expect(page.getByText('draft by Mira Okafor')).toBeVisible();

  // Run: a check breaks, with the rows at fault; downstream stops.
  await page.goto(`/w/${slug}/tables/core.fact_call`);
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.getByRole('heading', { name: /^Run \d+: build in first-change/ })).toBeVisible();
  await expect(page.getByText('a check is broken: fact_call_pkey (36 rows)')).toBeVisible();
  await expect(page.getByRole('grid', { name: /Rows at fault of core.fact_call/ }).getByRole('row')).not.toHaveCount(1);
  await page.getByRole('link', { name: 'Quality' }).click();
  await page.getByRole('link', { name: /^call_no is the key/ }).click();
  await expect(page.getByRole('heading', { name: 'broken call_no is the key' })).toBeVisible();

  // Mended: one row a call again, and tonnage in whole tonnes.
  await page.goto(`/w/${slug}/tables/staging.call`);
  await write(page, before.replace('       c.tonnage,', '       round(c.tonnage) as tonnage,'));
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'with what it feeds' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  // The lineage.
  await page.goto(`/w/${slug}/lineage?focus=core.fact_call`);
  await expect(page.locator('.react-flow__node[data-id="mart.terminal_quarter"]')).toBeVisible();
  await expect(
    page.getByRole('complementary', { name: 'core.fact_call' }).getByRole('button', { name: 'staging.call' }),
  ).toBeVisible();

  // Commit and release.
  await page.getByRole('link', { name: 'Releases' }).click();
  await expect(page.getByText('1 draft not committed')).toBeVisible();
  await page.getByLabel('What changed, and why').fill('Tonnage in whole tonnes');
  await page.getByRole('button', { name: 'Commit 1 draft' }).click();
  await expect(page.getByText('Everything is committed')).toBeVisible();
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.getByRole('heading', { name: /^Run \d+: release in production/ })).toBeVisible();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto(`/w/${slug}/releases`);
  await expect(page.getByRole('cell', { name: 'Tonnage in whole tonnes' })).toBeVisible();

  // The rows in production are whole tonnes.
  await page.goto('/w/production/tables/core.fact_call/rows');
  const grid = page.getByRole('grid', { name: 'Rows of core.fact_call' });
  await expect(grid.getByRole('row').nth(1)).toContainText('C000001');
  await expect(grid.getByRole('row').nth(1).getByRole('gridcell').last()).toHaveText(/\.00$/);
  expect(messages).toEqual([]);
});
