import { expect, test } from '@playwright/test';
import { signIn } from './support/app';

test('the finder leads to tables, columns and checks from the keyboard', async ({ page }) => {
  await signIn(page, 'vera');
  await page.keyboard.press('Control+k');
  await page.getByPlaceholder('A name, or words of a description, a note or SQL').fill('vessel dues');
  await expect(page.getByRole('option', { name: /mart.vessel_dues/ }).first()).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/tables\/mart\.vessel_dues/);
  await page.keyboard.press('Control+k');
  await page.getByPlaceholder('A name, or words of a description, a note or SQL').fill('hull_no is the key');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/quality\//);
});

test('completion knows the columns behind an alias', async ({ page }) => {
  await signIn(page, 'mira');
  await page.goto('/w/berth-dues/tables/staging.port');
  await page.locator('.cm-content').first().click();
  await page.keyboard.press('Control+a');
  await page.keyboard.type('select p. from landing.port p');
  for (let i = 0; i < ' from landing.port p'.length; i++) await page.keyboard.press('ArrowLeft');
  await page.keyboard.press('Control+Space');
  await expect(page.locator('.cm-tooltip-autocomplete')).toContainText('port_name');
});

test('the harbour moves on a day and its calls are brought in', async ({ page }) => {
  await signIn(page, 'mira');
  await page.goto('/w/production/sources');
  const row = page.getByRole('row', { name: /landing\.call/ });
  const before = Number((await row.getByRole('cell').nth(2).innerText()).replaceAll(',', ''));
  await page.getByRole('button', { name: 'Move on a day' }).click();
  await expect(page.getByText(/It is 2026-03-03 in Saltmere/).first()).toBeVisible();
  await page.getByRole('button', { name: 'Bring in landing.call' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto('/w/production/sources');
  const after = Number((await row.getByRole('cell').nth(2).innerText()).replaceAll(',', ''));
  expect(after).toBeGreaterThan(before);
});
