import AxeBuilder from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { openWorkspace, send, signIn, watchConsole } from './support/app';

/** A layer of this journey alone has rules, so that other journeys release what they do. */
const moorings = (quays: string) =>
  `create table quays.moorings (quay text primary key);\nselect quay from (values ${quays}) as v (quay);\n`;

async function serious(page: Page): Promise<string[]> {
  const { violations } = await new AxeBuilder({ page })
    .withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'])
    .setLegacyMode(true)
    .analyze();
  return violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? '')).map((v) => v.id);
}

test('two people review a change and release it: a remark, its answer, an approval that ends with another text', async ({
  page,
  browser,
}) => {
  test.setTimeout(120_000);
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Moorings');
  const { files } = (await (await page.request.get(`/api/workspaces/${slug}/files`)).json()) as {
    files: Record<string, string>;
  };
  const save = (path: string, text: string) =>
    send(page, 'PUT', `workspaces/${slug}/drafts`, { path, text, version: 0 });
  await save('layers.sql', `${files['layers.sql']!}\ncreate schema quays;\n`);
  await save('review.sql', "set review.approvals.quays = '1';\n");
  await save('quays/moorings.sql', moorings("('north')"));

  await page.goto(`/w/${slug}/releases`);
  await page.getByLabel('What changed, and why').fill('Moorings');
  await page.getByRole('button', { name: /^Commit 3 drafts/ }).click();
  await expect(page.getByText('Another person has to approve')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Release to production' })).toHaveAttribute('aria-disabled', 'true');
  await expect(page.getByText('You wrote a part of it: somebody else approves it.')).toBeVisible();
  await page.getByRole('button', { name: 'Ask for approval' }).click();
  await expect(page.getByText('Asked for approval', { exact: true })).toBeVisible();

  const other = await (await browser.newContext()).newPage();
  await signIn(other, 'jonas');
  await other.goto('/w/production/today');
  await other.getByRole('link', { name: /^to review Moorings waits for your approval/ }).click();
  await other.getByRole('link', { name: /moorings/ }).click();
  const here = other.getByRole('region', { name: 'Remarks here' });
  await here.getByRole('button', { name: /Remarks here/ }).click();
  await other.locator('.cm-lineNumbers .cm-gutterElement', { hasText: /^1$/ }).click();
  await here.getByRole('textbox', { name: 'Remark on line 1' }).fill('Is there no south quay?');
  await here.getByRole('button', { name: 'Add remark' }).click();
  await expect(here.getByText('quays/moorings.sql, line 1')).toBeVisible();
  const approval = other.getByRole('region', { name: 'Approval' });
  await approval.getByRole('textbox', { name: 'What you say' }).fill('Read.');
  await approval.getByRole('button', { name: 'Approve' }).click();
  await expect(approval.getByText('Jonas Reet approves')).toBeVisible();
  expect(await serious(other)).toEqual([]);

  // The remark is followed: what was approved is another text then.
  await save('quays/moorings.sql', `-- Quays where vessels moor.\n${moorings("('north'), ('south')")}`);
  await page.reload();
  await page.getByRole('link', { name: 'quays/moorings.sql, line 2' }).click();
  const thread = page.getByRole('region', { name: 'Remarks here' });
  await thread.getByRole('button', { name: 'Answer' }).click();
  await thread.getByRole('textbox', { name: 'Answer' }).fill('There is: added.');
  await thread.getByRole('button', { name: 'Answer' }).click();
  await expect(thread.getByText('There is: added.')).toBeVisible();
  await page.getByLabel('What changed, and why').fill('The south quay');
  await page.getByRole('button', { name: /^Commit 1 draft/ }).click();
  await expect(page.getByText('Counts no more: the change is another one now.')).toBeVisible();

  await other.reload();
  await here.getByRole('button', { name: 'Resolve' }).click();
  await expect(here.getByText(/^Resolved by Jonas Reet/)).toBeVisible();
  await approval.getByRole('textbox', { name: 'What you say' }).fill('Both quays are there.');
  await approval.getByRole('button', { name: 'Approve' }).click();
  await expect(other.getByText('Approved by another person')).toBeVisible();

  await page.reload();
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto('/w/production/releases');
  await expect(page.getByRole('row', { name: /The south quay/ })).toContainText('Jonas Reet');
  expect(await serious(page)).toEqual([]);
  expect(messages).toEqual([]);
});
