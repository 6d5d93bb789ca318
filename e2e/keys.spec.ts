import { expect, test, type Page } from '@playwright/test';
import { openWorkspace, signIn, watchConsole } from './support/app';

const sheet = (page: Page) => page.getByRole('region', { name: 'The SQL' });

async function keepAs(page: Page, name: string, fullName: string): Promise<void> {
  await sheet(page).getByLabel('table', { exact: true }).fill(name);
  await expect(sheet(page).getByText(`create table ${fullName} (`)).toBeVisible();
  await sheet(page).getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByRole('heading', { name: fullName, exact: true })).toBeVisible();
}

test('a dimension with a history, a calendar and a fact that looks keys up are begun, loaded and looked at', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Keys');

  await page.goto(`/w/${slug}/new/dimension?table=staging.berth`);
  await page.getByRole('group', { name: 'Business key' }).getByLabel('berth_code').check();
  await page.getByLabel('A change of berth_name').selectOption('overwrite');
  await page.getByLabel('Keep the earlier terminal_code').check();
  await keepAs(page, 'dim_quay', 'core.dim_quay');

  await page.goto(`/w/${slug}/new/dates`);
  await page.getByLabel('the fiscal year begins in').selectOption('April');
  await sheet(page).getByRole('button', { name: 'Preview' }).click();
  await expect(sheet(page).getByRole('columnheader', { name: /fiscal_quarter/ })).toBeVisible();

  await page.goto(`/w/${slug}/new/fact?table=staging.call`);
  await page.getByRole('group', { name: 'Grain: one row per' }).getByLabel('call_no').check();
  const keys = page.getByRole('region', { name: 'Keys of dimensions' });
  await expect(keys.getByText('in core.dim_vessel by')).toBeVisible();
  await expect(keys.getByText('in core.dim_quay by')).toBeVisible();
  // Three of the eight hundred calls are of vessels that are not in the register.
  await page.getByLabel('Leave out quay_key').click();
  await page.getByRole('button', { name: 'Count what is found' }).click();
  await expect(keys.getByText('99 % found')).toBeVisible();
  await page.getByLabel('vessel_key: at').selectOption('announced_at');
  await keepAs(page, 'fact_visit', 'core.fact_visit');
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'with what it needs' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.getByRole('button', { name: 'core.fact_visit', exact: true }).click();
  const did = page.getByRole('region', { name: 'What the load did' });
  await expect(did.getByText('vessel_key unknown')).toBeVisible();
  await expect(did.getByText('inserted')).toBeVisible();

  // Started over after a question: what it holds is left behind.
  await page.goto(`/w/${slug}/tables/core.dim_quay`);
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'starting over …' }).click();
  await page
    .getByRole('alertdialog', { name: 'Start core.dim_quay over?' })
    .getByRole('button', { name: 'Start over' })
    .click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  // The SQL of the load is there to be read and taken away.
  await page.goto(`/w/${slug}/tables/core.fact_visit/load`);
  await expect(page.getByText('create temp table raw_rows on commit drop as')).toBeVisible();
  await page.getByLabel('Form').selectOption('procedures');
  await expect(page.getByText(/create or replace procedure "w_keys\w*_core"."load_fact_visit"/)).toBeVisible();

  // The vessels as versions.
  await page.goto(`/w/${slug}/tables/core.dim_vessel/rows?view=versions`);
  await expect(
    page.getByRole('grid', { name: 'Versions of core.dim_vessel' }).getByRole('gridcell', { name: 'KR-10002' }),
  ).toBeVisible();
  await page.getByLabel('What to see').selectOption('key');
  await page.getByLabel('hull_no').fill('KR-10002');
  await page.getByRole('button', { name: 'Show' }).click();
  await expect(page.getByRole('list', { name: 'Versions, oldest first' }).getByRole('listitem')).toHaveCount(1);
  await page.getByLabel('What to see').selectOption('compare');
  await page.getByLabel('From').fill('2026-01-01');
  await page.getByRole('button', { name: 'Show' }).click();
  await expect(
    page.getByRole('grid', { name: 'Versions of core.dim_vessel' }).getByRole('gridcell', { name: 'came' }).first(),
  ).toBeVisible();
  expect(messages).toEqual([]);
});

test('a vault is begun over one source, kept whole and loaded', async ({ page }) => {
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Vault');
  await page.goto(`/w/${slug}/new/vault?table=staging.payment`);
  await page.getByLabel('one of them is a').fill('receipt');
  await page.getByRole('group', { name: 'Business key' }).getByLabel('payment_id').check();
  await page.getByLabel('Another key').selectOption('invoice_id');
  await page.getByLabel('which version held at the end of each day').check();
  await page.getByLabel('a bridge over all links').check();
  await sheet(page).getByRole('button', { name: 'sat_receipt' }).click();
  await expect(sheet(page).getByText('create table core.sat_receipt (')).toBeVisible();
  await expect(sheet(page).getByRole('alert')).toHaveCount(0);
  await expect(sheet(page).getByRole('button', { name: 'Preview' })).toHaveAttribute('aria-disabled', 'true');
  await sheet(page).getByRole('button', { name: 'Save drafts' }).click();
  await expect(page.getByRole('heading', { name: 'core.hub_receipt', exact: true })).toBeVisible();
  await page.goto(`/w/${slug}/tables/core.bridge_receipt`);
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'with what it needs' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto(`/w/${slug}/tables/core.link_receipt_invoice/rows`);
  await expect(
    page
      .getByRole('grid', { name: 'Rows of core.link_receipt_invoice' })
      .getByRole('columnheader', { name: /^receipt_hub/ }),
  ).toBeVisible();
});
