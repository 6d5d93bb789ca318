import AxeBuilder from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { editorText, openWorkspace, signIn, watchConsole, write } from './support/app';

const panel = (page: Page) => page.getByRole('complementary', { name: 'Contract' });
const editor = (page: Page) => page.locator('.cm-content').first();

test('a contract is edited as a form and as text, and a release asks what becomes of kept rows', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Owners');
  await page.goto(`/w/${slug}/tables/core.dim_owner`);
  await panel(page).getByRole('button', { name: 'Edit' }).click();

  // The text follows the form.
  await panel(page).getByLabel('Another option of the table').selectOption('owner');
  await panel(page).getByLabel('owner', { exact: true }).fill('register office');
  await page.keyboard.press('Enter');
  await expect(editor(page)).toContainText("largest_loss = '20%', owner = 'register office');");
  await panel(page)
    .getByRole('button', { name: /^owner_name/ })
    .click();
  await panel(page).getByLabel('Comment of owner_name').fill('As it is painted on the funnel.');
  await panel(page).getByLabel('Type of owner_name').click();
  await expect(editor(page)).toContainText(
    "comment on column core.dim_owner.owner_name is 'As it is painted on the funnel.';",
  );
  await panel(page).getByLabel('New check of owner_name').fill("check (owner_name <> '')");
  await page.keyboard.press('Enter');
  await expect(editor(page)).toContainText("owner_name text not null check (owner_name <> '')");
  await expect(editor(page)).toContainText('-- Owners, numbered by a hash');

  // The form follows the text, and takes the query's columns over; what only the database knows is asked of it.
  await page.getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByText('draft by Mira Okafor')).toBeVisible();
  const kept = await page.evaluate(
    async (s) =>
      ((await (await fetch(`/api/workspaces/${s}/files`)).json()) as { drafts: { path: string; text: string }[] })
        .drafts[0]!.text,
    slug,
  );
  await write(
    page,
    kept.replace(
      'trim(owner_name) as owner_name, flag_code\n',
      'trim(owner_name) as owner_name, md5(owner_name) as mark, now()::date as seen_on\n',
    ),
  );
  const against = panel(page).getByRole('region', { name: 'Contract against query' });
  await expect(against).toContainText('The query also returns mark, seen_on.');
  await expect(against).toContainText('The query does not return flag_code.');
  await against.getByRole('button', { name: 'Update contract from query' }).click();
  await expect(panel(page).getByText('Contract and query match.')).toBeVisible();
  await expect(editor(page)).toContainText(/mark +text/);
  await expect(editor(page)).toContainText(/seen_on +date/);
  await page.getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByText('unsaved')).toHaveCount(0);

  // A release shows how the columns change, and wants consent to what goes for good.
  await page.getByRole('link', { name: 'Releases' }).click();
  await page.getByLabel('What changed, and why').fill('Owners with a mark');
  await page.getByRole('button', { name: 'Commit 1 draft' }).click();
  await expect(page.getByText('alter table core.dim_owner add column mark text;')).toBeVisible();
  await expect(page.getByText('alter table core.dim_owner drop column flag_code;')).toBeVisible();
  const release = page.getByRole('button', { name: 'Release to production' });
  const serious = (
    await new AxeBuilder({ page }).setLegacyMode(true).withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa']).analyze()
  ).violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? ''));
  expect(serious.map((v) => `${v.id} ${v.nodes[0]?.html}`)).toEqual([]);
  await expect(release).toHaveAttribute('aria-disabled', 'true');
  await page.getByLabel('core.dim_owner.flag_code may be dropped').check();
  await release.click();
  await expect(page.getByRole('heading', { name: /^Run \d+: release in production/ })).toBeVisible();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto('/w/production/tables/core.dim_owner/rows');
  await expect(
    page.getByRole('grid', { name: 'Rows of core.dim_owner' }).getByRole('columnheader', { name: /^mark/ }),
  ).toBeVisible();
  expect(messages).toEqual([]);
});

test('a definition without a contract gets one from its query', async ({ page }) => {
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Occupancy');
  await page.goto(`/w/${slug}/tables/mart.berth_occupancy`);
  await panel(page).getByRole('button', { name: 'Edit' }).click();
  await panel(page).getByRole('button', { name: 'Contract from the query' }).click();
  await expect(editor(page)).toContainText('create table mart.berth_occupancy (');
  await expect(editor(page)).toContainText(/share_of_week +numeric\(6,3\)/);
  await expect(panel(page).getByText('Contract and query match.')).toBeVisible();
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  expect(await editorText(page, slug, 'mart/berth_occupancy.sql')).toContain('create table mart.berth_occupancy as');
});
