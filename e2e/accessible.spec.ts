import AxeBuilder from '@axe-core/playwright';
import { expect, test } from '@playwright/test';
import { signIn, watchConsole } from './support/app';

const PAGES = [
  'today',
  'sources',
  'tables/core.dim_vessel',
  'tables/core.dim_vessel/rows',
  'tables/core.fact_call/checks',
  'tables/core.fact_call/past',
  'files/sources/port_ops.sql',
  'lineage',
  'lineage?focus=core.fact_call',
  'quality',
  'runs',
  'releases',
  'settings',
  'tables/reference.terminal_target/values',
  'files/docs/how_dues_are_charged.md',
  'settings/connections',
  'new/clean?table=landing.vessel',
  'new/related?table=landing.call',
  'tables/core.dim_vessel/rows?view=profile',
];

for (const theme of ['paper', 'blueprint']) {
  test(`axe finds no serious problem on any sheet, ${theme}`, async ({ page }) => {
    // Sixteen sheets, each looked at by axe: on a busy machine that takes minutes.
    test.setTimeout(300_000);
    const messages = watchConsole(page);
    await page.goto('/');
    await page.evaluate((t) => localStorage.setItem('theme', t), theme);
    await page.reload();
    const found: string[] = [];
    const look = async (name: string) => {
      const { violations } = await new AxeBuilder({ page }).withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa']).analyze();
      for (const v of violations)
        if (['serious', 'critical'].includes(v.impact ?? ''))
          found.push(
            `${name}: ${v.id} ${v.nodes
              .slice(0, 3)
              .map((n) => n.html.slice(0, 160))
              .join(' | ')}`,
          );
    };
    await look('sign in');
    await signIn(page, 'mira');
    for (const address of PAGES) {
      await page.goto(`/w/berth-dues/${address}`);
      await page.waitForLoadState('networkidle');
      await expect(page.getByRole('status')).toHaveCount(0);
      await look(address);
    }
    expect(found).toEqual([]);
    expect(messages).toEqual([]);
  });
}
