import { mkdirSync } from 'node:fs';
import path from 'node:path';
import { parseArgs } from 'node:util';
import { launch } from './lib/browser.mjs';
import { main, ROOT, say } from './lib/shell.mjs';

/**
 * Pictures of the main views from the demo's data: `npm run screenshots` beside a fresh `npm start` whose past was played.
 * Makes its own draft in the demo's workspace, and a run whose check breaks, so that every view has
 * something to show.
 */
const { values } = parseArgs({
  options: {
    address: { type: 'string', default: 'http://127.0.0.1:4100' },
    out: { type: 'string', default: 'docs/screenshots' },
    only: { type: 'string' },
  },
});
const out = path.resolve(ROOT, values.out);
const W = '/w/berth-dues';

const VIEWS = [
  ['incident', '/w/production/incidents/1', async (page) => page.getByRole('region', { name: 'Incident' }).waitFor()],
  ['outbox', '/w/production/settings/outbox', async (page) => page.getByRole('row').nth(1).waitFor()],
  ['today', '/w/production/today'],
  ['sources', `${W}/sources`],
  [
    'bench',
    `${W}/tables/core.dim_vessel`,
    async (page) => {
      await page.getByRole('button', { name: 'Preview' }).click();
      await page.getByRole('grid', { name: 'Rows of core.dim_vessel' }).waitFor();
      await page
        .getByRole('button', { name: /flag_code/ })
        .first()
        .click();
    },
  ],
  [
    'contract',
    `${W}/tables/core.fact_dues`,
    async (page) => {
      await page.getByRole('complementary', { name: 'Contract' }).getByRole('button', { name: 'Edit' }).click();
      const berth = page.getByRole('button', { name: /^berth_key/ });
      await berth.click();
      await berth.evaluate((e) => e.scrollIntoView({ block: 'start' }));
    },
  ],
  [
    'anatomy',
    '/w/dues-by-rate/tables/mart.vessel_dues?view=anatomy',
    async (page) => {
      await page.getByRole('option', { name: /multiplies/ }).click();
      await page.getByRole('button', { name: /keys that multiply/ }).click();
      await page.getByRole('columnheader', { name: /right rows/ }).waitFor();
    },
  ],
  [
    'plan',
    `${W}/tables/mart.terminal_quarter?view=plan`,
    async (page) => page.getByText('hashed aggregate').first().waitFor(),
  ],
  ['examples', `${W}/tables/core.dim_vessel/examples`, differing],
  ['lineage', `${W}/lineage?focus=mart.vessel_dues&up=9&down=9`],
  ['lineage-column', `${W}/lineage?focus=mart.vessel_dues&column=dues_total`],
  ['trace', `${W}/tables/core.fact_dues/trace?column=paid`],
  ['quality-days', `/w/production/quality`],
  ['quality', `${W}/quality/core.dim_vessel/dim_vessel_flag_code_not_null`],
  ['runs', `${W}/runs`],
  [
    'review',
    '/w/dues-by-rate/releases?rows=mart.vessel_dues',
    async (page) => page.getByRole('region', { name: 'Rows' }).getByRole('row').nth(3).waitFor(),
  ],
  [
    'rows',
    `${W}/tables/landing.call/rows?look=${encodeURIComponent('{"filters":[{"column":"status","op":"=","value":"departed"}],"sort":[{"column":"tonnage","descending":true}]}')}`,
  ],
  [
    'starter-fact',
    `${W}/new/fact?table=staging.call`,
    async (page) => {
      await page.getByRole('group', { name: 'Grain: one row per' }).getByLabel('call_no').check();
      await page.getByRole('button', { name: 'Count what is found' }).click();
      await page.getByText('% found').first().waitFor();
    },
  ],
  [
    'bench-blueprint',
    `${W}/tables/mart.terminal_quarter`,
    async (page) => {
      await page.evaluate(() => localStorage.setItem('theme', 'blueprint'));
      await page.reload();
      await page.getByRole('button', { name: 'Preview' }).click();
      await page.getByRole('grid').waitFor();
    },
  ],
];

await main(async () => {
  mkdirSync(out, { recursive: true });
  const browser = await launch();
  const context = await browser.newContext({
    viewport: { width: 1280, height: 800 },
    baseURL: values.address,
    reducedMotion: 'reduce',
    colorScheme: 'light',
  });
  const page = await context.newPage();
  const errors = [];
  page.on('console', (m) => ['error', 'warning'].includes(m.type()) && errors.push(m.text()));
  page.on('pageerror', (e) => errors.push(e.message));
  await page.goto('/');
  await page.getByLabel('Name').waitFor();
  await page.getByLabel('Name').fill('mira');
  await page.getByLabel('Password').fill('saltmere');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('navigation', { name: 'Places' }).waitFor();
  await prepare(page);
  for (const [name, address, act] of VIEWS) {
    if (values.only && values.only !== name) continue;
    await page.goto(address);
    await page.waitForLoadState('networkidle').catch(() => undefined);
    if (act) await act(page);
    await page.waitForTimeout(700);
    await page.screenshot({ path: path.join(out, `${name}.png`) });
    say(`${name}.png`);
  }
  await browser.close();
  if (errors.length) say(`Messages in the console:\n${[...new Set(errors)].join('\n')}`);
});

/** An example that expects something else than what is made. */
async function differing(page) {
  const cell = page.getByLabel('flag_code of row 1').last();
  if ((await cell.inputValue()) !== 'OS') {
    await cell.fill('OS');
    await page.getByRole('button', { name: 'Save draft' }).click();
  }
  await page.getByRole('region', { name: 'Result' }).waitFor();
}

/** A draft that lets a call arrive twice, and the run that finds it; done once. */
async function prepare(page) {
  const { csrf } = await page.evaluate(() => fetch('/api/session').then((r) => r.json()));
  const api = (method, path, body) =>
    page.evaluate(
      ([m, p, b, token]) =>
        fetch(`/api/workspaces/berth-dues/${p}`, {
          method: m,
          headers: { 'content-type': 'application/json', 'x-csrf-token': token },
          ...(b ? { body: JSON.stringify(b) } : {}),
        }).then((r) => r.json()),
      [method, path, body, csrf],
    );
  const { files, drafts } = await api('GET', 'files');
  if (drafts.length) return;
  const text = files['staging/call.sql']
    .replace('select distinct on (c.call_no)\n', 'select\n')
    .replace(/order by[^;]*;/, ';');
  await api('PUT', 'drafts', { path: 'staging/call.sql', text, version: 0 });
  const run = await api('POST', 'runs', { tables: ['mart.terminal_quarter'], upstream: true, downstream: false });
  await page.waitForFunction(
    (id) =>
      fetch(`/api/runs/${id}`)
        .then((r) => r.json())
        .then((r) => !['queued', 'running'].includes(r.state)),
    run.id,
  );
}
