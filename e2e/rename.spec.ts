import { expect, test, type Page } from '@playwright/test';
import { openWorkspace, signIn, watchConsole } from './support/app';

/** The first rows of a table in production, as texts. */
const rowsOf = (page: Page, table: string): Promise<string[][]> =>
  page.evaluate(async (t) => {
    const { csrf } = (await (await fetch('/api/session')).json()) as { csrf: string };
    const answer = await fetch('/api/workspaces/production/page', {
      method: 'POST',
      headers: { 'content-type': 'application/json', 'x-csrf-token': csrf },
      body: JSON.stringify({ table: t, show: [], filters: [], sort: [], limit: 200 }),
    });
    return ((await answer.json()) as { rows: string[][] }).rows;
  }, table);

test('a column that is used in a dozen places is renamed, released with its rows, and named back', async ({ page }) => {
  test.setTimeout(120_000);
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Plain keys');
  const before = await rowsOf(page, 'vault.hub_vessel');
  expect(before.length).toBeGreaterThan(100);
  await page.goto(`/w/${slug}/tables/vault.hub_vessel`);
  const contract = page.getByRole('complementary', { name: 'Contract' });
  await contract.getByRole('button', { name: /^\S* ?vessel_hub/ }).click();
  await contract.getByRole('button', { name: 'Rename' }).click();
  const dialog = page.getByRole('dialog');

  // A name that is taken, or none at all, is refused with the reason.
  await dialog.getByLabel('New name').fill('hull_no');
  await dialog.getByRole('button', { name: 'Show all uses' }).click();
  await expect(dialog.getByRole('alert')).toContainText('vault.hub_vessel has a column hull_no already');
  await dialog.getByLabel('New name').fill('vessel_id');
  await dialog.getByRole('button', { name: 'Show all uses' }).click();
  await expect(dialog.getByText(/^1[1-9] places in 5 files\.$/)).toBeVisible();
  await dialog.getByRole('button', { name: 'vault/pit_vessel.sql' }).click();
  await expect(dialog.locator('.cm-content')).toContainText('vessel_id as vessel_hub');
  await dialog.getByRole('button', { name: 'Save as drafts' }).click();
  await expect(page.getByText('vessel_hub is now vessel_id', { exact: true })).toBeVisible();
  await expect(contract.getByRole('button', { name: /vessel_id/ })).toBeVisible();

  await page.getByRole('link', { name: 'Releases' }).click();
  await page.getByLabel('What changed, and why').fill('Keys say what they are');
  await page.getByRole('button', { name: /^Commit 5 drafts/ }).click();
  await expect(page.getByText('Everything is committed')).toBeVisible();
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.getByRole('heading', { name: /^Run \d+: release in production/ })).toBeVisible();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  expect(await rowsOf(page, 'vault.hub_vessel')).toEqual(before);
  await page.goto('/w/production/tables/vault.hub_vessel/rows');
  await expect(
    page.getByRole('grid', { name: 'Rows of vault.hub_vessel' }).getByRole('columnheader', { name: /^vessel_id/ }),
  ).toBeVisible();

  await page.goto('/w/production/releases');
  await page.getByRole('link', { name: 'Keys say what they are' }).click();
  await page.getByRole('button', { name: 'Go back to before it …' }).click();
  await expect(dialog.getByRole('listitem')).toHaveCount(1);
  await dialog.getByRole('button', { name: 'Open the workspace' }).click();
  await expect(page.getByText(/^Withdraws release \d+$/)).toBeVisible();
  await expect(page.getByText('Nothing is dropped')).toBeVisible();
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  expect(await rowsOf(page, 'vault.hub_vessel')).toEqual(before);
  await page.goto('/w/production/releases');
  await expect(page.getByRole('row', { name: /Keys say what they are withdrawn by \d+/ })).toBeVisible();
  await page.goto('/w/production/tables/vault.hub_vessel/rows');
  await expect(
    page.getByRole('grid', { name: 'Rows of vault.hub_vessel' }).getByRole('columnheader', { name: /^vessel_hub/ }),
  ).toBeVisible();
  expect(messages).toEqual([]);
});
