import AxeBuilder from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { openWorkspace, send, signIn, watchConsole } from './support/app';

const CHECK = 'checks/owners_have_a_name';
const text = (least: number) =>
  `create view checks.owners_have_a_name with (about = 'core.dim_owner', advisory = true, severity = high) as\nselect owner_key from core.dim_owner where owner_key <> 0 and length(owner_name) < ${least};\n`;

/** Releases the check as it is written now. */
async function release(page: Page, slug: string, message: string) {
  await page.goto(`/w/${slug}/releases`);
  await page.getByLabel('What changed, and why').fill(message);
  await page.getByRole('button', { name: 'Commit 1 draft' }).click();
  const changed = page.getByRole('region', { name: 'Changed checks' });
  await expect(changed.getByText(/core\.dim_owner, (new|changed), \d+ rows? at fault/)).toBeVisible();
  await page.getByRole('button', { name: /^Release/ }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
}

test('a check that does not hold becomes an incident, is followed to its end and closed with what was learned', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  // Who wants to be told of a table says so; what is told by mail is in the demo’s outbox.
  await page.goto('/w/production/settings/messages');
  await page.getByRole('button', { name: 'Add', exact: true }).click();
  await page.getByLabel('Name 1').fill('core.dim_owner');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByText('Saved', { exact: true })).toBeVisible();
  const slug = await openWorkspace(page, 'Owners and names');
  const keep = (least: number, version: number) =>
    send<{ version: number }>(page, 'PUT', `workspaces/${slug}/drafts`, {
      path: `${CHECK}.sql`,
      text: text(least),
      version,
    });
  await keep(100, 0);
  await release(page, slug, 'Owners have a name');

  // What the release found is a day’s verdict in the sheet, and an incident is opened from it.
  await page.goto('/w/production/quality');
  await page.getByRole('link', { name: 'owners have a name' }).click();
  await expect(page.getByRole('heading', { name: 'owners have a name' })).toBeVisible();
  await page.getByRole('button', { name: 'Open incident' }).click();
  const incident = page.getByRole('region', { name: 'Incident' });
  await expect(incident.getByRole('heading', { level: 1 })).toHaveText('core.dim_owner: owners have a name');
  await expect(incident.getByLabel('Severity')).toHaveValue('high');
  await page.goto('/w/production/settings/outbox');
  await page.getByRole('button', { name: /^Incident \d+ opened: core\.dim_owner: owners have a name/ }).click();
  await expect(page.getByText(/rows at fault\.[\s\S]*\/w\/production\/incidents\/\d+/)).toBeVisible();
  await page.goto('/w/production/today');
  await expect(page.getByRole('link', { name: /^Today \d+ unread/ })).toBeVisible();
  const told = page.getByRole('region', { name: 'Messages' });
  await told.getByRole('link', { name: /^Incident \d+ opened: core\.dim_owner/ }).click();
  await page.getByRole('button', { name: 'Take it in hand' }).click();
  await incident.getByLabel('Remark').fill('Names are short at times; see [core.dim_owner].');
  await incident.getByRole('button', { name: 'Add remark' }).click();
  await expect(incident.getByRole('link', { name: 'core.dim_owner', exact: true })).toBeVisible();
  await incident.getByRole('button', { name: 'Run the check now' }).click();
  await expect(incident.getByText(/owners have a name advisory, \d+ rows at fault/)).toBeVisible();

  const { violations } = await new AxeBuilder({ page })
    .withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'])
    .setLegacyMode(true)
    .analyze();
  expect(violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? '')).map((v) => v.id)).toEqual([]);

  // While it does not hold, closing asks why.
  await incident.getByRole('button', { name: 'Close with what was learned' }).click();
  await expect(page.getByLabel('Why close it though it does not hold')).toBeVisible();
  await page.keyboard.press('Escape');

  await keep(0, 0);
  await release(page, slug, 'Names may be short');
  await page.goto('/w/production/today');
  await page
    .getByRole('link', { name: /core\.dim_owner: owners have a name/ })
    .first()
    .click();
  await expect(incident.getByText(/release \d+: Names may be short by Mira Okafor/)).toBeVisible();
  await incident.getByRole('button', { name: 'Run the check now' }).click();
  await expect(incident.getByText(/owners have a name holds/).last()).toBeVisible();
  await incident.getByRole('button', { name: 'Close with what was learned' }).click();
  await page.getByLabel('What was learned').fill('A name may be any length.');
  await page.getByRole('button', { name: 'Close incident' }).click();
  await expect(incident.getByText('A name may be any length.').first()).toBeVisible();
  await expect(page.getByRole('complementary', { name: 'Incidents' }).getByText(/closed in .*, high/)).toBeVisible();
  expect(messages).toEqual([]);
});
