import { expect, test } from '@playwright/test';
import { openWorkspace, send, signIn, watchConsole, write } from './support/app';

const FILES: Readonly<Record<string, string>> = {
  'sources/tolls.sql': `create foreign table landing.toll (
  lock_code text not null,
  toll      numeric(8,2) not null,
  day       date not null
) server drop_folder options (pattern 'tolls_{day:date}.csv', then_run 'core.toll, mart.toll_of_day');
comment on foreign table landing.toll is 'What passing a lock costs.';
`,
  'core/toll.sql': `create table core.toll (
  lock_code text         not null,
  day       date         not null,
  toll      numeric(8,2) not null,
  primary key (lock_code, day)
) with (load = rebuild, owner = 'harbour master');

select t.lock_code, t.day, t.toll
from landing.toll t;
`,
  'mart/toll_of_day.sql': `create table mart.toll_of_day (
  day     date          primary key,
  highest numeric(8,2)  not null check (highest < 500)
) with (load = rebuild, owner = 'dues office', open_incident = true, severity = high);

select day, max(toll) as highest
from core.toll
group by day;
`,
};

test('what breaks at night is told by mail, its cause is found upstream, mended with an example, released, and closed', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const first = await openWorkspace(page, 'Tolls of the locks');
  for (const [path, text] of Object.entries(FILES))
    await send(page, 'PUT', `workspaces/${first}/drafts`, { path, text, version: 0 });
  await page.goto(`/w/${first}/releases`);
  await page.getByLabel('What changed, and why').fill('Tolls by day');
  await page.getByRole('button', { name: 'Commit 3 drafts' }).click();
  await page.getByRole('button', { name: /^Release/ }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  // A file comes every night; one night the locks write pence.
  await page.goto('/w/production/sources');
  const drop = page.getByRole('region', { name: 'drop_folder' });
  const deliver = async (name: string, text: string) => {
    await drop.getByLabel('Files to deliver').setInputFiles({ name, mimeType: 'text/csv', buffer: Buffer.from(text) });
    await expect(drop.getByRole('row', { name: new RegExp(`${name} loaded loaded 2`) })).toBeVisible();
  };
  await deliver('tolls_2026-03-01.csv', 'lock_code,toll\nSALT,12.50\nMERE,9.00\n');
  await expect(async () => {
    await page.goto('/w/production/tables/mart.toll_of_day/rows');
    await expect(page.getByText('1 of 1 row')).toBeVisible({ timeout: 2000 });
  }).toPass();
  await page.goto('/w/production/sources');
  await deliver('tolls_2026-03-02.csv', 'lock_code,toll\nSALT,1250\nMERE,900\n');

  // The morning after: a mail, and the incident that it is about.
  const title = /^Incident \d+ opened: mart\.toll_of_day/;
  await expect(async () => {
    await page.goto('/w/production/settings/outbox');
    await page.getByRole('button', { name: title }).first().click({ timeout: 2000 });
  }).toPass();
  await expect(page.getByText(/1 row at fault\.[\s\S]*\/w\/production\/incidents\/\d+/)).toBeVisible();
  await page.goto('/w/production/today');
  await page
    .getByRole('link', { name: /mart\.toll_of_day/ })
    .first()
    .click();
  const incident = page.getByRole('region', { name: 'Incident' });
  await expect(incident.getByLabel('Severity')).toHaveValue('high');
  await page.getByRole('button', { name: 'Take it in hand' }).click();

  // Upstream nothing fails; but a file came in between, and its rows show what is wrong.
  const upstream = page.getByRole('region', { name: 'Upstream' });
  await expect(upstream.getByText(/tolls_2026-03-02\.csv came into/)).toBeVisible();
  await upstream.getByRole('link', { name: 'landing.toll' }).click();
  await expect(page.getByRole('gridcell', { name: '1,250.00' })).toBeVisible();

  // Mended where tolls become one kind of number, with an example of both kinds.
  const second = await openWorkspace(page, 'Tolls in pence');
  await page.goto(`/w/${second}/tables/core.toll`);
  await write(
    page,
    FILES['core/toll.sql']!.replace(
      't.toll\n',
      'case when t.toll >= 500 then t.toll / 100 else t.toll end::numeric(8,2) as toll\n',
    ),
  );
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.getByRole('button', { name: 'Preview', exact: true }).click();
  await page.getByRole('gridcell').first().click();
  for (const key of ['ArrowDown', 'ArrowDown', 'ArrowDown']) {
    await page.keyboard.press(' ');
    await page.keyboard.press(key);
  }
  await page.keyboard.press(' ');
  await page.getByRole('button', { name: 'Save as' }).click();
  await page.getByRole('menuitem', { name: /^Worked example, \d chosen rows$/ }).click();
  await page.getByLabel('What the example shows').fill('tolls in pence');
  await page.getByRole('button', { name: 'Next' }).click();
  await expect(page.getByRole('list', { name: 'Files of the example' })).toContainText('input.landing.toll.csv');
  await page.getByRole('button', { name: 'Save as drafts' }).click();
  await expect(page.getByRole('region', { name: 'tolls in pence' }).getByText(/^holds, /)).toBeVisible();
  await page.goto(`/w/${second}/releases`);
  await page.getByLabel('What changed, and why').fill('Tolls in pence become pounds');
  await page.getByRole('button', { name: /^Commit \d drafts/ }).click();
  await expect(page.getByRole('region', { name: 'Worked examples' }).getByText('core.toll, holds')).toBeVisible();
  await page.getByRole('button', { name: /^Release/ }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();

  // The check holds, and the incident is closed with what was learned.
  await page.goto('/w/production/today');
  await page
    .getByRole('link', { name: /mart\.toll_of_day/ })
    .first()
    .click();
  await expect(incident.getByText(/release \d+: Tolls in pence become pounds by Mira Okafor/)).toBeVisible();
  await expect(incident.getByText(/holds/).last()).toBeVisible();
  await incident.getByRole('button', { name: 'Close with what was learned' }).click();
  await page.getByLabel('What was learned').fill('The locks write pence at times: core.toll tells them apart.');
  await page.getByRole('button', { name: 'Close incident' }).click();
  await expect(incident.getByText(/The locks write pence at times/).first()).toBeVisible();
  expect(messages).toEqual([]);
});
