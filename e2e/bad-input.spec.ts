import { expect, test } from '@playwright/test';
import { editorText, openWorkspace, signIn, write } from './support/app';

test('a wrong password says so and loses nothing', async ({ page }) => {
  await page.goto('/');
  await page.getByLabel('Name').fill('mira');
  await page.getByLabel('Password').fill('wrong');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page.getByRole('alert')).toContainText('The name or password is wrong');
  await expect(page.getByLabel('Name')).toHaveValue('mira');
});

test('two people who edit one file see both texts', async ({ page, browser }) => {
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Two people');
  await page.goto(`/w/${slug}/tables/staging.port`);
  const text = await editorText(page, slug, 'staging/port.sql');
  await write(page, `-- by Jonas\n${text}`);

  const other = await browser.newPage();
  await signIn(other, 'mira');
  await other.goto(`/w/${slug}/tables/staging.port`);
  await expect(other.getByText('Two people is not shared with you: ask Jonas Reet.')).toBeVisible();
  const settings = await page.context().newPage();
  await settings.goto(`/w/${slug}/settings/workspaces`);
  await settings.getByRole('button', { name: 'Share Two people' }).click();
  await settings.getByLabel(/^Mira Okafor/).check();
  await settings.getByRole('button', { name: 'Save' }).click();
  await expect(settings.getByRole('row', { name: /Two people/ })).toContainText('Mira Okafor');
  await settings.close();
  await other.reload();
  await write(other, `-- by Mira\n${text}`);
  await other.getByRole('button', { name: 'Save draft' }).click();
  await expect(other.getByText('draft by Mira Okafor')).toBeVisible();

  await page.getByRole('button', { name: 'Save draft' }).click();
  const dialog = page.getByRole('dialog', { name: /changed by Mira Okafor in the meantime/ });
  await expect(dialog).toContainText('-- by Mira');
  await expect(dialog).toContainText('-- by Jonas');
  await dialog.getByRole('button', { name: 'Use mine' }).click();
  await expect(page.getByText('draft by Jonas Reet')).toBeVisible();
  await other.close();
});

test('a viewer can look but neither edit, run nor release', async ({ page }) => {
  await signIn(page, 'vera');
  await page.goto('/w/berth-dues/tables/core.dim_vessel');
  await expect(page.getByText('Only editors can change definitions; you are a viewer.')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Run table' })).toHaveAttribute('aria-disabled', 'true');
  await expect(page.getByRole('button', { name: 'Save draft' })).toHaveCount(0);
  const refused = await page.evaluate(async () => {
    const { csrf } = (await (await fetch('/api/session')).json()) as { csrf: string };
    const ask = (method: string, path: string, body: unknown) =>
      fetch(`/api/workspaces/berth-dues/${path}`, {
        method,
        headers: { 'content-type': 'application/json', 'x-csrf-token': csrf },
        body: JSON.stringify(body),
      }).then((r) => r.status);
    return [
      await ask('PUT', 'drafts', { path: 'staging/port.sql', text: 'select 1 as a', version: 0 }),
      await ask('POST', 'runs', { tables: [], upstream: false, downstream: false }),
      await ask('POST', 'release', { message: 'x' }),
    ];
  });
  expect(refused).toEqual([403, 403, 403]);
});
