import AxeBuilder from '@axe-core/playwright';
import { expect, test } from '@playwright/test';
import { openWorkspace, send, signIn, watchConsole } from './support/app';

test('a worked example of a history with three loads tells what an edit changes, and one is begun from a row', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Flags as examples');
  await page.goto(`/w/${slug}/tables/core.dim_vessel/examples`);
  const sheet = page.getByRole('region', { name: 'a new flag' });
  await page.getByRole('button', { name: 'Run all' }).click();
  await expect(sheet.getByText(/^holds, /)).toBeVisible();
  await expect(sheet.getByRole('table', { name: 'Load 3: staging.vessel' })).toBeVisible();

  // The name of a vessel is overwritten in all versions; as a version of its own there are three rows.
  const answer = await page.request.get(`/api/workspaces/${slug}/files`);
  const { files } = (await answer.json()) as { files: Record<string, string> };
  await send(page, 'PUT', `workspaces/${slug}/drafts`, {
    path: 'core/dim_vessel.sql',
    text: files['core/dim_vessel.sql']!.replace(
      `vessel_name   text          options (on_change 'overwrite')`,
      `vessel_name   text          options (on_change 'version')`,
    ),
    version: 0,
  });
  await page.reload();
  const result = sheet.getByRole('region', { name: 'Result' });
  await expect(result.getByRole('row', { name: /^differs .*Heron expected Grey Heron/ }).first()).toBeVisible();
  await expect(result.getByRole('row', { name: /^not expected .*Heron OS/ })).toBeVisible();
  const { violations } = await new AxeBuilder({ page })
    .withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'])
    .setLegacyMode(true)
    .analyze();
  expect(violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? '')).map((v) => v.id)).toEqual([]);

  // The review says so, too; the result is what is wanted.
  await page.goto(`/w/${slug}/releases`);
  const listed = page.getByRole('region', { name: 'Worked examples' });
  await expect(listed.getByText(/core\.dim_vessel, 1 row differs, 1 row more than expected/)).toBeVisible();
  await listed.getByRole('link', { name: 'a new flag' }).click();
  await sheet.getByRole('button', { name: 'Expect this result' }).click();
  await expect(sheet.getByText(/^holds, /)).toBeVisible();

  // Rows of a preview become an example, with the rows that made them.
  await page.goto(`/w/${slug}/tables/core.fact_call`);
  await page.getByRole('button', { name: 'Preview', exact: true }).click();
  await page.getByRole('gridcell').first().click();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press(' ');
  await page.getByRole('button', { name: 'Save as' }).click();
  await page.getByRole('menuitem', { name: 'Worked example, 1 chosen row' }).click();
  await page.getByLabel('What the example shows').fill('an early call');
  await page.getByRole('button', { name: 'Next' }).click();
  await expect(page.getByRole('list', { name: 'Files of the example' })).toContainText('input.staging.call.csv1 row');
  await page.getByRole('button', { name: 'Save as drafts' }).click();
  const begun = page.getByRole('region', { name: 'an early call' });
  await expect(begun.getByText(/^holds, /)).toBeVisible();
  expect(messages).toEqual([]);
});
