import { expect, test } from '@playwright/test';
import { signIn, watchConsole } from '../support/app';

test('a watch is taught that a new level is normal, and ignores a measure until a day', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  await page.goto('/w/production/today');
  const needs = page.getByRole('list', { name: 'What needs you' });

  // Payments stopped with the export: the dues office says that they come once a week from now on.
  await needs.getByRole('link', { name: /landing\.payment is unusual/ }).click();
  await expect(page.getByRole('heading', { name: /landing\.payment, rows/ })).toContainText('learned from');
  await expect(page.getByText(/^0 at .*, expected \d+ to \d+\.$/)).toBeVisible();
  const values = page.getByRole('table', { name: 'rows of landing.payment' });
  await expect(values.getByRole('row').nth(25)).toBeVisible();
  await page.getByRole('button', { name: 'This is normal from now on' }).click();
  await expect(page.getByText('still learning: it says nothing before 14 days')).toBeVisible();
  await page.goto('/w/production/today');
  await expect(needs.getByRole('link', { name: /landing\.dues_invoice is unusual/ })).toBeVisible();
  await expect(needs.getByRole('link', { name: /landing\.payment is unusual/ })).toHaveCount(0);

  // How old the invoices are is known, and in hand.
  await needs.getByRole('link', { name: /landing\.dues_invoice is unusual/ }).click();
  await page.getByRole('button', { name: 'Ignore until …' }).click();
  await page.getByRole('button', { name: 'Ignore', exact: true }).click();
  await expect(page.getByText(/^Ignored until .* by Mira Okafor/)).toBeVisible();
  await page.goto('/w/production/today');
  await expect(needs.getByRole('link', { name: /landing\.dues_invoice is unusual rows: 0/ })).toBeVisible();

  // The night after, the level that was learned anew says nothing yet.
  await page.goto('/w/production/sources');
  await page.getByRole('button', { name: /^Move on a day/ }).click();
  await expect(page.getByText(/It is 2026-03-03 in Saltmere/).first()).toBeVisible();
  await page
    .getByRole('button', { name: /^Bring in all/ })
    .first()
    .click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  // Tables are measured once the run has ended.
  await expect(async () => {
    await page.goto('/w/production/quality?table=landing.payment&watch=rows');
    await expect(values.getByRole('row').nth(1)).toContainText('learning', { timeout: 4000 });
  }).toPass();
  await page.goto('/w/production/today');
  await expect(needs.getByRole('link', { name: /landing\.payment is unusual/ })).toHaveCount(0);
  expect(messages).toEqual([]);
});
