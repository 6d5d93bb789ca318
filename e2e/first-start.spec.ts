import { expect, test, type Page } from '@playwright/test';
import { spawn, type ChildProcess } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import pg from 'pg';
import { freePort, isRoot, ROOT } from '../scripts/lib/shell.mjs';
import { watchConsole } from './support/app';

/** An application that nobody has been at, and a database of somebody's beside it. */
let app: ChildProcess;
let address: string;
let data: string;
let source: { readonly port: number };

test.beforeAll(async () => {
  test.setTimeout(240_000);
  data = mkdtempSync(path.join(isRoot ? '/var/tmp' : os.tmpdir(), 'ouvrage-first-'));
  const port = await freePort(4360);
  address = `http://127.0.0.1:${port}`;
  app = spawn(process.execPath, ['scripts/start.mjs', '--data', data, '--port', String(port), '--no-demo'], {
    cwd: ROOT,
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  await new Promise<void>((resolve, reject) => {
    app.stdout!.on('data', (d: Buffer) => /Ouvrage is ready/.test(String(d)) && resolve());
    app.once('exit', (code) => reject(new Error(`the application ended with ${code}`)));
  });
  source = await shop();
});
test.afterAll(async () => {
  app.kill('SIGTERM');
  await new Promise((resolve) => app.once('exit', resolve));
  rmSync(data, { recursive: true, force: true });
});

/** The database of a shop, on the same server as the warehouse, under a name of its own. */
async function shop(): Promise<{ readonly port: number }> {
  const { postgresPort, passwords } = JSON.parse(readFileSync(path.join(data, 'config.json'), 'utf8')) as {
    postgresPort: number;
    passwords: Record<string, string>;
  };
  const ask = async (as: { user: string; password: string; database: string }, statements: readonly string[]) => {
    const client = new pg.Client({ host: '127.0.0.1', port: postgresPort, ...as });
    await client.connect();
    for (const sql of statements) await client.query(sql);
    await client.end();
  };
  await ask({ user: 'postgres', password: passwords['postgres']!, database: 'postgres' }, [
    `create role shop login password 'shop secret'`,
    'create database shop owner shop',
  ]);
  await ask({ user: 'shop', password: 'shop secret', database: 'shop' }, [
    'create table customer (customer_no integer primary key, name text not null, town text)',
    'create table sale (sale_no integer primary key, customer_no integer not null references customer, sold_at timestamptz not null, pence integer not null)',
    `insert into customer select n, 'Customer ' || n, case when n % 3 = 0 then null else 'Town ' || n % 5 end from generate_series(1, 40) as s (n)`,
    `insert into sale select n, 1 + n % 40, timestamptz '2026-11-01 08:00Z' + n * interval '37 minutes', 100 + n * 733 % 9000 from generate_series(1, 600) as s (n)`,
  ]);
  return { port: postgresPort };
}

const PASSWORD = 'quay lantern forty ribbon';
async function chosen(page: Page): Promise<void> {
  await page.getByLabel('New password, of at least 10 characters').fill(PASSWORD);
  await page.getByLabel('New password again').fill(PASSWORD);
}
async function keepAs(page: Page, name: string, table: string): Promise<void> {
  const sheet = page.getByRole('region', { name: 'The SQL' });
  await sheet.getByLabel('table', { exact: true }).fill(name);
  await sheet.getByRole('button', { name: 'Save draft' }).click();
  await expect(page.getByRole('heading', { name: table, exact: true })).toBeVisible();
}
const steps = (page: Page) => page.getByRole('region', { name: 'First steps' });
const next = (page: Page) => steps(page).locator('[aria-current=step]');

test('from the first sign-in to a released fact of one’s own source, without leaving the browser', async ({ page }) => {
  test.setTimeout(180_000);
  page.setDefaultTimeout(30_000);
  const messages = watchConsole(page);

  // The first administrator.
  await page.goto(address);
  await page.getByLabel('Setup code').fill(readFileSync(path.join(data, 'setup-code.txt'), 'utf8').trim());
  await page.getByLabel('Name to sign in with').fill('ines');
  await page.getByLabel('Your name').fill('Ines Falk');
  await chosen(page);
  await page.getByRole('button', { name: 'Start' }).click();
  await expect(page.getByRole('heading', { name: 'Nothing is here yet' })).toBeVisible();

  // A connection.
  await expect(next(page)).toContainText('Connect a database');
  await next(page).getByRole('link').click();
  await page.getByRole('button', { name: 'New connection' }).click();
  const form = page.getByRole('dialog');
  await form.getByLabel('Name').fill('shop');
  await form.getByLabel('Host').fill('127.0.0.1');
  await form.getByLabel('Port').fill(String(source.port));
  await form.getByLabel('Database').fill('shop');
  await form.getByLabel('User').fill('shop');
  await form.getByLabel('Password').fill('shop secret');
  await form.getByLabel('TLS').selectOption('off');
  await form.getByRole('button', { name: 'Test' }).click();
  await expect(form.getByText(/It works: PostgreSQL/)).toBeVisible();
  await form.getByRole('button', { name: 'Save', exact: true }).click();

  // A workspace, and the tables of the database in it.
  await page.getByRole('link', { name: 'Today' }).click();
  await expect(next(page)).toContainText('Open a workspace');
  await next(page).getByRole('button').click();
  await page.getByLabel('What is it for?').fill('First fact');
  await page.getByRole('button', { name: 'Open', exact: true }).click();
  await expect(page).toHaveURL(/first-fact\/today/);
  await expect(next(page)).toContainText('Import tables');
  await next(page).getByRole('link').click();
  await page.getByRole('button', { name: 'Import tables' }).click();
  const tables = page.getByRole('dialog', { name: 'Import tables' });
  for (const name of ['public.customer', 'public.sale'])
    await tables.getByRole('checkbox', { name, exact: true }).check();
  await tables.getByRole('button', { name: 'Declare 2 tables' }).click();
  await tables.getByRole('button', { name: 'Save as a draft' }).click();
  await expect(page.getByRole('link', { name: 'landing.sale', exact: true })).toBeVisible();
  for (const name of ['landing.customer', 'landing.sale']) {
    await page.goto(`${address}/w/first-fact/sources`);
    await page.getByRole('button', { name: `Bring in ${name}`, exact: true }).click();
    await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  }
  await page.getByRole('link', { name: 'Today' }).click();
  await expect(next(page)).toContainText('Write a definition');
  await next(page).getByRole('link').click();

  // Cleaned, a dimension and a fact, each with its starter.
  await keepAs(page, 'customer', 'staging.customer');
  await page.goto(`${address}/w/first-fact/new/clean?table=landing.sale`);
  await expect(page.getByLabel('Name of pence', { exact: true })).toBeVisible();
  await keepAs(page, 'sale', 'staging.sale');
  await page.goto(`${address}/w/first-fact/new/dimension?table=staging.customer`);
  await page.getByRole('group', { name: 'Business key' }).getByLabel('customer_no').check();
  await keepAs(page, 'dim_customer', 'core.dim_customer');
  await page.goto(`${address}/w/first-fact/new/fact?table=staging.sale`);
  await page.getByRole('group', { name: 'Grain: one row per' }).getByLabel('sale_no').check();
  await expect(
    page.getByRole('region', { name: 'Keys of dimensions' }).getByText('in core.dim_customer by'),
  ).toBeVisible();
  await keepAs(page, 'fact_sale', 'core.fact_sale');

  // Run with all that it needs, committed, and released.
  await page.getByRole('link', { name: 'Today' }).click();
  await expect(next(page)).toContainText('Run it');
  await next(page).getByRole('link').click();
  await page.getByText('fact_sale', { exact: true }).click();
  await expect(page.getByRole('heading', { name: 'core.fact_sale', exact: true })).toBeVisible();
  await page.getByRole('button', { name: 'How much to run' }).click();
  await page.getByRole('menuitem', { name: 'with what it needs' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.getByRole('link', { name: 'Today' }).click();
  await expect(next(page)).toContainText('Release it');
  await next(page).getByRole('link').click();
  await page.getByLabel('What changed, and why').fill('The first fact');
  await page.getByRole('button', { name: /^Commit \d+ drafts/ }).click();
  await expect(page.getByText('Everything is committed')).toBeVisible();
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
  await page.goto(`${address}/w/production/tables/core.fact_sale/rows`);
  await expect(page.getByText('600 rows')).toBeVisible();
  await page.goto(`${address}/w/production/today`);
  await expect(page.getByRole('heading', { name: 'All is well' })).toBeVisible();
  await expect(steps(page)).toHaveCount(0);
  expect(messages).toEqual([]);
});

test('somebody is added by a link, chooses a password, gets another role, and is disabled', async ({
  page,
  browser,
}) => {
  page.setDefaultTimeout(30_000);
  await page.goto(address);
  await page.getByLabel('Name').fill('ines');
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('navigation', { name: 'Places' }).waitFor();
  await page.goto(`${address}/w/production/settings/people`);
  await page.getByRole('button', { name: 'Add a person' }).click();
  await page.getByLabel('Name, as it appears in commits').fill('Nils Aho');
  await page.getByLabel('Name to sign in with').fill('nils');
  await page.getByRole('radio', { name: /^viewer/ }).check();
  await page.getByRole('button', { name: 'Add', exact: true }).click();
  const link = await page.getByRole('status').locator('code').innerText();
  await page.getByRole('button', { name: 'Close' }).click();

  const theirs = await (await browser.newContext()).newPage();
  theirs.setDefaultTimeout(30_000);
  await theirs.goto(link);
  await expect(theirs.getByText('Nils Aho, you sign in with the name nils')).toBeVisible();
  await chosen(theirs);
  await theirs.getByRole('button', { name: 'Choose it and sign in' }).click();
  await expect(theirs.getByRole('button', { name: 'Nils Aho, viewer' })).toBeVisible();

  const change = async (how: () => Promise<void>) => {
    await page.getByRole('button', { name: 'Nils Aho' }).click();
    await how();
    await expect(page.getByRole('dialog')).toHaveCount(0);
  };
  await change(async () => {
    await page.getByRole('radio', { name: /^editor/ }).check();
    await page.getByRole('button', { name: 'Save', exact: true }).click();
  });
  await theirs.reload();
  await expect(theirs.getByRole('button', { name: 'Nils Aho, editor' })).toBeVisible();
  await change(async () => {
    await page.getByRole('button', { name: 'Disable' }).click();
    await page.getByRole('alertdialog').getByRole('button', { name: 'Disable' }).click();
  });
  await expect(page.getByRole('cell', { name: 'disabled' })).toBeVisible();
  await theirs.reload();
  await expect(theirs.getByRole('button', { name: 'Sign in' })).toBeVisible();
  await theirs.context().close();
});
