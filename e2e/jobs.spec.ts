import AxeBuilder from '@axe-core/playwright';
import { expect, test } from '@playwright/test';
import { openWorkspace, signIn, watchConsole, write } from './support/app';

test('a job is written, released, run, paused, and followed by another one', async ({ page }) => {
  page.setDefaultTimeout(20_000);
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Morning job');
  await page.getByRole('link', { name: 'Runs' }).click();
  await page.getByRole('navigation', { name: 'Runs and jobs' }).getByRole('link', { name: 'Jobs' }).click();
  await expect(page.getByText('No jobs yet')).toBeVisible();

  const begun = async (name: string, text: string) => {
    await page.goto(`/w/${slug}/runs/jobs`);
    await page.getByRole('button', { name: 'New job' }).click();
    await page.getByLabel(/^Name/).fill(name);
    await page.getByRole('button', { name: 'Create' }).click();
    await expect(page).toHaveURL(new RegExp(`files/jobs/${name}.sql`));
    await write(page, text);
    await page.keyboard.press('Control+s');
    await expect(page.getByText('draft by Mira Okafor')).toBeVisible();
  };
  await begun(
    'morning',
    "create publication morning for table core.dim_portt with (at = '30 4 * * 1-5', time_zone = 'Europe/Paris', retries = 2);\n",
  );
  // What is wrong is said where it is written.
  await expect(page.getByText(/did you mean core\.dim_port\?/).first()).toBeVisible();
  await write(
    page,
    `create publication morning for table core.dim_port with (at = '30 4 * * 1-5', time_zone = 'Europe/Paris', retries = 2);
comment on publication morning is 'What the office reads at seven.';
`,
  );
  await page.keyboard.press('Control+s');
  await expect(page.getByText(/did you mean core\.dim_port\?/)).toHaveCount(0);
  await begun(
    'afterwards',
    "create publication afterwards for table core.dim_berth with (after = 'morning', needs = none);\n",
  );

  await page.getByRole('link', { name: 'Releases' }).click();
  await page.getByLabel('What changed, and why').fill('The morning job');
  await page.getByRole('button', { name: 'Commit 2 drafts' }).click();
  await expect(page.getByText('Everything is committed')).toBeVisible();
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  await page.goto(`/w/${slug}/runs/jobs/morning`);
  const sheet = page.getByRole('region', { name: 'morning', exact: true });
  await expect(sheet.getByText('What the office reads at seven.')).toBeVisible();
  await expect(sheet.getByText('weekdays at 04:30, Paris time')).toBeVisible();
  await sheet.getByRole('button', { name: 'Run now' }).click();
  const first = sheet.getByRole('table', { name: 'Starts' }).getByRole('row').nth(1);
  await expect(first).toContainText('Mira Okafor');
  await expect(first).toContainText('succeeded');
  await page.goto(`/w/${slug}/runs/jobs/afterwards`);
  const then = page.getByRole('table', { name: 'Starts' }).getByRole('row').nth(1);
  await expect(then).toContainText(/after run \d+/);
  await expect(then).toContainText('succeeded');
  await page.getByRole('button', { name: 'Pause' }).click();
  await expect(page.getByText(/^Paused by Mira Okafor since/)).toBeVisible();
  const { violations } = await new AxeBuilder({ page })
    .withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'])
    .setLegacyMode(true)
    .analyze();
  expect(violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? '')).map((v) => v.id)).toEqual([]);
  await then.getByRole('link').click();
  await expect(page.getByText('job afterwards').first()).toBeVisible();
  expect(messages).toEqual([]);
});
