import AxeBuilder from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { signIn, watchConsole } from './support/app';

const PAGES = [
  'today',
  'sources',
  'tables/core.dim_vessel',
  'tables/core.dim_vessel/rows',
  'tables/core.fact_dues?view=anatomy',
  'tables/mart.terminal_quarter?view=plan',
  'tables/core.fact_call/checks',
  'tables/core.fact_call/past',
  'files/sources/port_ops.sql',
  'lineage',
  'lineage?focus=core.fact_call',
  'lineage?focus=mart.vessel_dues&column=dues_total',
  'tables/core.fact_dues/trace?column=paid',
  'quality',
  'quality?view=coverage',
  'quality?table=core.dim_port&watch=rows',
  'runs',
  'releases',
  'settings',
  'tables/reference.terminal_target/values',
  'files/docs/how_dues_are_charged.md',
  'settings/connections',
  'settings/messages',
  'settings/desks',
  'settings/outbox',
  'tables/core.dim_vessel/examples',
  'new/clean?table=landing.vessel',
  'new/related?table=landing.call',
  'tables/core.dim_vessel/rows?view=profile',
  'tables/core.dim_vessel/rows?view=versions',
  'tables/core.dim_vessel/load',
  'new/fact?table=staging.call',
  'new/dimension?table=staging.berth',
  'new/vault?table=staging.call',
];

/** The rules that do not look at colours hold in both themes: the sheets are the same elements. */
const COLOURS = ['color-contrast', 'link-in-text-block'];
const TAGS = ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'];

/** Only what is wrong is gathered, in the page itself: there are no frames. */
const axe = (page: Page) => new AxeBuilder({ page }).options({ resultTypes: ['violations'] }).setLegacyMode(true);

test('axe finds no serious problem on any sheet, in both themes', async ({ page }) => {
  // Two dozen sheets, each looked at twice by axe: on a busy machine that takes minutes.
  test.setTimeout(600_000);
  const messages = watchConsole(page);
  const found: string[] = [];
  const keep = (name: string, violations: Awaited<ReturnType<AxeBuilder['analyze']>>['violations']) => {
    for (const v of violations)
      if (['serious', 'critical'].includes(v.impact ?? ''))
        found.push(
          `${name}: ${v.id} ${v.nodes
            .slice(0, 3)
            .map((n) => n.html.slice(0, 160))
            .join(' | ')}`,
        );
  };
  const show = (theme: string) => page.evaluate((t) => (document.documentElement.dataset['theme'] = t), theme);
  const look = async (name: string) => {
    await show('paper');
    keep(`${name}, paper`, (await axe(page).withTags(TAGS).analyze()).violations);
    await show('blueprint');
    keep(`${name}, blueprint`, (await axe(page).withRules(COLOURS).analyze()).violations);
  };
  await page.goto('/');
  await look('sign in');
  await signIn(page, 'mira');
  for (const address of PAGES) {
    await page.goto(`/w/berth-dues/${address}`);
    await page.waitForLoadState('networkidle');
    await expect(page.getByRole('status')).toHaveCount(0);
    await look(address);
  }
  await page.goto('/w/berth-dues/tables/core.fact_dues');
  await page.getByRole('complementary', { name: 'Contract' }).getByRole('button', { name: 'Edit' }).click();
  await page.getByRole('button', { name: /^vessel_key/ }).click();
  await expect(page.getByLabel('missing of vessel_key')).toBeVisible();
  await look('a contract as a form');
  expect(found).toEqual([]);
  expect(messages).toEqual([]);
});
