import { expect, test, type Page } from '@playwright/test';
import { openWorkspace, signIn, watchConsole } from './support/app';

const sheet = (page: Page) => page.getByRole('region', { name: 'The SQL' });

async function keepAs(page: Page, name: string, table: string): Promise<void> {
  await sheet(page).getByLabel('table', { exact: true }).fill(name);
  await sheet(page).getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByRole('heading', { name: table, exact: true })).toBeVisible();
}

test('tables of an unknown database become cleaned staging tables', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Pilots');

  // Three tables that nobody has declared yet.
  await page.getByRole('link', { name: 'Sources' }).click();
  await page.getByRole('button', { name: 'Import tables' }).click();
  const dialog = page.getByRole('dialog', { name: 'Import tables' });
  await dialog.getByLabel('Search tables').fill('pilot');
  for (const name of ['ops.pilots', 'ops.pilotages']) await dialog.getByRole('checkbox', { name, exact: true }).check();
  await dialog.getByLabel('Search tables').fill('inspect');
  await dialog.getByRole('checkbox', { name: 'ops.berth_inspections' }).check();
  await dialog.getByRole('button', { name: 'Declare 3 tables' }).click();
  await expect(dialog.getByText('create foreign table landing.pilotages')).toBeVisible();
  await dialog.getByRole('button', { name: 'Save as a draft' }).click();
  await expect(page.getByRole('link', { name: 'landing.pilots', exact: true })).toBeVisible();

  // Brought into the workspace, since production does not know them.
  for (const name of ['landing.pilots', 'landing.pilotages', 'landing.berth_inspections']) {
    await page.goto(`/w/${slug}/sources`);
    await page.getByRole('button', { name: `Bring in ${name}`, exact: true }).click();
    await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  }

  // Cleaned: the profile proposes, the person agrees, previews and keeps.
  await page.goto(`/w/${slug}/tables/landing.pilots`);
  await page.getByRole('link', { name: 'New table from this' }).click();
  await expect(page.getByLabel('Cast of licensed')).toHaveValue('boolean');
  await expect(page.getByLabel('Values treated as null of phone')).toHaveValue("'', n/a");
  await page.getByLabel('Name of name', { exact: true }).fill('pilot_name');
  await sheet(page).getByRole('button', { name: 'Preview' }).click();
  await expect(sheet(page).getByRole('gridcell', { name: 'Amber Tern', exact: true })).toBeVisible();
  await expect(sheet(page).getByText('all 8 rows')).toBeVisible();
  await keepAs(page, 'pilot', 'staging.pilot');

  await page.goto(`/w/${slug}/new/clean?table=landing.pilotages`);
  await expect(page.getByLabel('Cast of done_on')).toHaveValue('date');
  await page.getByLabel('Cast of hours').fill('numeric(4,1)');
  await keepAs(page, 'pilotage', 'staging.pilotage');
  await page.goto(`/w/${slug}/new/clean?table=landing.berth_inspections`);
  await expect(page.getByLabel('Keep result')).toBeChecked();
  await keepAs(page, 'berth_inspection', 'staging.berth_inspection');

  // Run, and look at what came out.
  for (const [name, count] of [
    ['pilot', 8],
    ['berth_inspection', 22],
  ] as const) {
    await page.goto(`/w/${slug}/tables/staging.${name}`);
    await page.getByRole('button', { name: 'Run table' }).click();
    await expect(page.locator('header').getByText('succeeded')).toBeVisible();
    await page.goto(`/w/${slug}/tables/staging.${name}/rows`);
    await expect(page.getByText(`${count} of ${count} rows`)).toBeVisible();
  }
  await page.goto(`/w/${slug}/tables/staging.pilotage/rows?view=profile`);
  const hours = page.getByRole('region', { name: 'hours' });
  await expect(hours.getByText('numeric(4,1)')).toBeVisible();
  await expect(hours.getByRole('img', { name: /^Values of hours/ })).toBeVisible();
  await page
    .getByRole('region', { name: 'pilot_no' })
    .getByRole('button', { name: 'Rows with 3', exact: true })
    .focus();
  await page.keyboard.press('Enter');
  await expect(page.getByRole('button', { name: 'Remove the filter pilot_no = 3' })).toBeVisible();
  expect(messages).toEqual([]);
});

test('terminals are stacked, and targets held against what was achieved', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Targets');

  // One table of calls in two, by terminal, and stacked again.
  await page.goto(`/w/${slug}/new/split?table=staging.call`);
  await page.getByLabel('Condition of part 1').fill("berth_code like 'NQ-%'");
  await page.getByLabel('Name of part 1').fill('north_call');
  await page.getByRole('button', { name: 'Count rows' }).click();
  await expect(
    page.getByRole('status').filter({ hasText: /^Of 8\d\d rows, 0 are in more than one part/ }),
  ).toBeVisible();
  await sheet(page).getByRole('button', { name: 'Save drafts' }).click();
  await expect(page.getByRole('heading', { name: 'staging.north_call', exact: true })).toBeVisible();
  await page.goto(`/w/${slug}/new/stack?table=staging.north_call`);
  await page.getByRole('button', { name: 'Add a table' }).click();
  await page.getByLabel('Table 2', { exact: true }).selectOption('staging.call_rest');
  // A rounded column’s type is not known from the text alone: the person says it.
  await page.getByLabel('Type of tonnage').fill('numeric(12,2)');
  await page.getByLabel('column that says the origin').fill('part');
  await sheet(page).getByRole('button', { name: 'Preview' }).click();
  await expect(sheet(page).getByText(/first 500 of 8\d\d rows/)).toBeVisible();
  await keepAs(page, 'all_call', 'staging.all_call');

  // Dues against target by terminal and quarter.
  await page.goto(`/w/${slug}/new/target`);
  await page.getByLabel('What was achieved').selectOption('mart.terminal_quarter');
  await page.getByLabel('Achieved 1').selectOption('tonnage');
  await page.getByLabel('Name 1').fill('tonnage');
  await sheet(page).getByRole('button', { name: 'Preview' }).click();
  await expect(sheet(page).getByRole('columnheader', { name: /tonnage_reached/ })).toBeVisible();
  await keepAs(page, 'target_reached', 'mart.target_reached');
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'with what it needs' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  expect(messages).toEqual([]);
});

test('a new column of the system stops the intake, is compared, and is taken over', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const slug = await openWorkspace(page, 'Drift');
  await page.goto(`/w/${slug}/sources`);
  await page.getByRole('button', { name: 'A week' }).click();
  await expect(page.getByText(/^It is 2026-\d\d-\d\d in Saltmere$/)).toBeVisible();
  await page.reload();
  await expect(page.getByRole('row', { name: /landing\.call/ }).getByText('late', { exact: true })).toBeVisible();
  await page.getByRole('button', { name: 'Bring in landing.owner', exact: true }).click();
  await expect(page.locator('header').getByText('failed')).toBeVisible();
  await expect(page.getByText(/the system has a new column register_no/).first()).toBeVisible();

  await page.goto(`/w/${slug}/sources`);
  await page.getByRole('button', { name: 'drifted' }).click();
  await expect(page.getByRole('cell', { name: 'register_no' })).toBeVisible();
  await page.getByRole('button', { name: 'Update declaration from the system' }).click();
  await page.getByRole('button', { name: 'Save as a draft' }).click();
  await expect(page.getByRole('row', { name: /landing\.owner/ }).getByText('differs from production')).toBeVisible();
  await page.getByRole('button', { name: 'Bring in landing.owner', exact: true }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto(`/w/${slug}/tables/landing.owner/rows`);
  await expect(page.getByRole('gridcell', { name: 'R-1001' })).toBeVisible();
  expect(messages).toEqual([]);
});

test('a connection says which part of it does not work', async ({ page }) => {
  await signIn(page, 'admin');
  await page.goto('/w/production/settings/connections');
  await page.getByRole('button', { name: 'Change port_ops' }).click();
  await page.getByRole('button', { name: 'Test' }).click();
  await expect(page.getByText(/It works: PostgreSQL/)).toBeVisible();
  await page.getByLabel('Database').fill('nowhere');
  await page.getByRole('button', { name: 'Test' }).click();
  await expect(page.getByRole('alert').getByText('There is no database nowhere on 127.0.0.1')).toBeVisible();
  await page.getByRole('button', { name: 'Save', exact: true }).press('Escape');
  await page.goto('/w/production/settings/log');
  await expect(page.getByRole('cell', { name: 'sign-in', exact: true }).first()).toBeVisible();
});
