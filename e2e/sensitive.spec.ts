import { expect, test } from '@playwright/test';
import { openWorkspace, signIn, watchConsole } from './support/app';

test('what is personal is seen by editors alone: a viewer is told what is left out, and why', async ({ page }) => {
  await signIn(page, 'vera');
  await page.goto('/w/production/tables/landing.owner/rows');
  await expect(page.getByText('without owner_name: sensitive, so viewers do not see it')).toBeVisible();
  await expect(page.getByRole('columnheader', { name: /owner_name/ })).toHaveCount(0);
  await page.goto('/w/production/tables/core.dim_owner');
  await page.getByRole('button', { name: 'Preview', exact: true }).click();
  await expect(page.getByText('landing.owner.owner_name is sensitive (personal): viewers do not see it')).toBeVisible();
  const contract = page.getByRole('complementary', { name: 'Contract' });
  await contract.getByRole('button', { name: /owner_name.*personal/ }).click();
  await expect(
    contract.getByText('Sensitive (personal), as landing.owner.owner_name is: viewers do not see it.'),
  ).toBeVisible();
});

test('a reference table is made from a file, found by its description, and run', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Rate classes');
  await page.goto(`/w/${slug}/new/reference`);
  await page.getByLabel('File of values').setInputFiles({
    name: 'Rate classes.csv',
    mimeType: 'text/csv',
    buffer: Buffer.from('Class;Fee per ton;Since\nsmall;1,50;2026-01-01\nlarge;2,25;2026-02-30\n'),
  });
  await page.getByLabel('Type of Since').fill('date');
  await expect(page.getByRole('region', { name: 'What does not fit' })).toContainText(
    'row 2since“2026-02-30” is not a calendar day',
  );
  await page.getByLabel('File of values').setInputFiles({
    name: 'Rate classes.csv',
    mimeType: 'text/csv',
    buffer: Buffer.from('Class;Fee per ton;Since\nsmall;1,50;2026-01-01\nlarge;2,25;2026-02-28\n'),
  });
  await page.getByLabel('Description of Fee per ton').fill('What each ton of a hull costs.');
  await page.getByRole('button', { name: 'Save drafts' }).click();
  await expect(page.getByRole('heading', { name: 'reference.rate_classes' })).toBeVisible();
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.keyboard.press('Control+k');
  await page.getByRole('combobox').fill('each ton');
  await page.getByText('What each ton of a hull costs.').first().click();
  await expect(page).toHaveURL(/reference\.rate_classes/);
  await page.goto(`/w/${slug}/new/summarise?table=core.fact_call`);
  await page.getByRole('checkbox', { name: /^arrived_at/ }).check();
  await page.getByLabel('Period of arrived_at').selectOption('quarter');
  await page.getByLabel('Sorted by').selectOption('row_count');
  await page.getByLabel('only the first').fill('1');
  await page.getByRole('button', { name: 'Preview' }).click();
  await expect(page.getByText(/all 1 row/)).toBeVisible();
  expect(messages).toEqual([]);
});
