import { expect, test } from '@playwright/test';
import { signIn, watchConsole } from './support/app';

test('a daily rate file arrives, then a broken one, then an empty one', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  await page.goto('/w/production/sources');
  const drop = page.getByRole('region', { name: 'drop_folder' });
  await expect(drop.getByRole('row', { name: /weather_2026-03-02\.parquet/ })).toContainText('24');
  const deliver = (name: string, text: string) =>
    drop.getByLabel('Files to deliver').setInputFiles({ name, mimeType: 'text/csv', buffer: Buffer.from(text) });

  await deliver('berth_rates_2031-01-01.csv', 'berth_code,rate,charged\nNQ-1,41.50,by day\nNQ-2,39.00,by call\n');
  await expect(drop.getByRole('row', { name: /berth_rates_2031-01-01\.csv loaded loaded 2/ })).toBeVisible();
  await deliver('berth_rates_2031-01-02.csv', 'berth_code,rate,charged\nNQ-1,41.50,by day\nNQ-2,cheap,by call\n');
  await expect(drop.getByText('line 3, column rate: “cheap” is not a number')).toBeVisible();
  await deliver('berth_rates_2031-01-03.csv', '');
  await expect(drop.getByRole('row', { name: /berth_rates_2031-01-03\.csv/ })).toContainText('empty: nothing changed');

  await page.goto(
    `/w/production/tables/landing.berth_rate/rows?look=${encodeURIComponent(JSON.stringify({ filters: [{ column: 'as_of', op: '>=', value: '2031-01-01' }] }))}`,
  );
  await expect(page.getByText('2 of 2 rows')).toBeVisible();
  // The file's arrival ran the table that depends on it.
  await page.goto('/w/production/runs');
  await expect(page.getByText(/drop folder/i).first()).toBeVisible();
  expect(messages).toEqual([]);
});
