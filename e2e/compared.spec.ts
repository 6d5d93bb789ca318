import AxeBuilder from '@axe-core/playwright';
import { expect, test } from '@playwright/test';
import { openWorkspace, send, signIn, watchConsole } from './support/app';

test('a join that multiplies rows is seen before the release: rows, columns and sums beside production’s', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Dues beside production');
  const answer = await page.request.get(`/api/workspaces/${slug}/files`);
  const { files } = (await answer.json()) as { files: Record<string, string> };
  const path = 'mart/vessel_dues.sql';
  await send(page, 'PUT', `workspaces/${slug}/drafts`, {
    path,
    text: files[path]!.replace(
      'and v.is_current',
      'and v.is_current\nleft join (values (1), (2)) as twice (n) on true',
    ),
    version: 0,
  });

  // Before it was run there is nothing to compare, and the review says so.
  await page.goto(`/w/${slug}/releases`);
  await page.getByRole('link', { name: /^vessel_dues query/ }).click();
  await page.getByRole('link', { name: 'Rows', exact: true }).click();
  await expect(page.getByText('Not run here yet')).toBeVisible();
  await page.goto(`/w/${slug}/tables/mart.vessel_dues`);
  await page.getByRole('button', { name: 'Run table' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  await page.goto(`/w/${slug}/releases?rows=mart.vessel_dues`);
  const columns = page.getByRole('region', { name: 'Columns' });
  await expect(columns.getByRole('row', { name: /^dues_total values/ })).toContainText(/sum [\d,.]+ → [\d,.]+/);
  await expect(columns.getByRole('row', { name: /^vessel_name same/ })).toBeVisible();
  const rows = page.getByRole('region', { name: 'Rows' });
  await expect(rows.getByRole('row').nth(1)).toContainText(/became/);
  const { violations } = await new AxeBuilder({ page })
    .withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'])
    .setLegacyMode(true)
    .analyze();
  expect(violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? '')).map((v) => v.id)).toEqual([]);
  await page.getByRole('link', { name: 'SQL', exact: true }).click();
  await expect(page.getByRole('heading', { name: path })).toBeVisible();

  // All tables in one list, the one that differs first.
  await page.getByRole('link', { name: 'Compare the rows of all tables' }).click();
  const all = page.getByRole('table', { name: 'Compared tables' });
  await expect(all.getByRole('row').nth(1)).toContainText('mart.vessel_dues');
  await expect(all.getByRole('row').nth(1).getByRole('cell').nth(3)).toHaveText(/^[1-9]\d*$/);

  // What reads nothing that changed is not listed; what is read from production is the same.
  await expect(page.getByRole('complementary', { name: 'Review' }).getByText('dim_vessel')).toHaveCount(0);
  expect(messages).toEqual([]);
});
