import { expect, test } from '@playwright/test';
import { editorText, openWorkspace, signIn, watchConsole, write } from './support/app';

test('a wrong password says so and loses nothing', async ({ page }) => {
  await page.goto('/');
  await page.getByLabel('Name').fill('mira');
  await page.getByLabel('Password').fill('wrong');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page.getByRole('alert')).toContainText('The name or the password is not right');
  await expect(page.getByLabel('Name')).toHaveValue('mira');
});

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
  await expect(page.getByRole('alert')).toContainText('invalid input syntax for type date');
  expect(messages).toEqual([]);
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
  await write(other, `-- by Mira\n${text}`);
  await other.getByRole('button', { name: 'Keep draft' }).click();
  await expect(other.getByText('draft by Mira Okafor')).toBeVisible();

  await page.getByRole('button', { name: 'Keep draft' }).click();
  const dialog = page.getByRole('dialog', { name: /changed by Mira Okafor in the meantime/ });
  await expect(dialog).toContainText('-- by Mira');
  await expect(dialog).toContainText('-- by Jonas');
  await dialog.getByRole('button', { name: 'Take mine' }).click();
  await expect(page.getByText('draft by Jonas Reet')).toBeVisible();
  await other.close();
});

test('a viewer can look but neither edit, run nor release', async ({ page }) => {
  await signIn(page, 'vera');
  await page.goto('/w/berth-dues/tables/core.dim_vessel');
  await expect(page.getByText('You are signed in as viewer: an editor may change definitions.')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Run table' })).toHaveAttribute('aria-disabled', 'true');
  await expect(page.getByRole('button', { name: 'Keep draft' })).toHaveCount(0);
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
