import { expect, test } from '@playwright/test';
import { editorText, openWorkspace, signIn, watchConsole, write } from './support/app';

test('a figure of a mart is followed to the source column and back, and an edit says what it changes', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Follow');

  // From the contract beside the bench to the derivation.
  await page.goto(`/w/${slug}/tables/mart.vessel_dues`);
  const contract = page.getByRole('complementary', { name: 'Contract' });
  await contract.getByRole('button', { name: /paid_total/ }).click();
  await contract.getByRole('link', { name: 'Trace this column' }).click();
  await expect(page.getByText('How paid_total is made')).toBeVisible();
  await expect(page.getByText('paid = sum(amount)')).toBeVisible();
  const source = page.getByRole('link', { name: 'landing.payment.amount' });
  await expect(source).toBeVisible();

  // An expression leads to the author's line, and back.
  await page.getByRole('link', { name: 'coalesce(p.paid, 0)' }).click();
  await expect(page).toHaveURL(new RegExp(`/w/${slug}/tables/core\\.fact_dues\\?at=\\d+\\.1`));
  await page.goBack();

  // From the source the figure is found again, and its way is drawn.
  await source.click();
  await page.getByRole('link', { name: /mart\.vessel_dues\.\s*paid_total/ }).click();
  await page.getByRole('link', { name: 'Draw its way' }).click();
  const sheet = page.getByRole('region', { name: 'Lineage' });
  await expect(sheet.getByRole('link', { name: 'paid_total', exact: true })).toBeVisible();
  await expect(sheet.getByText('7 tables')).toBeVisible();
  await sheet.getByRole('button', { name: 'Downstream' }).click();
  await expect(sheet.getByText('1 table', { exact: true })).toBeVisible();

  // Before it is saved, an edit says what it changes elsewhere.
  await page.goto(`/w/${slug}/tables/core.fact_dues`);
  const before = await editorText(page, slug, 'core/fact_dues.sql');
  await write(page, before.replace('coalesce(p.paid, 0) as paid', 'coalesce(p.paid, 1) as paid'));
  const changes = page.getByLabel('What this edit changes');
  await expect(changes).toContainText('Values may change in core.fact_dues.paid, mart.vessel_dues.paid_total');
  await page.goto(`/w/${slug}/tables/staging.payment`);
  await write(page, 'select invoice_id from landing.payment');
  await expect(changes).toContainText('This edit causes');
  await expect(changes.getByRole('link', { name: /core\/fact_dues\.sql/ }).first()).toBeVisible();
  expect(messages).toEqual([]);
});
