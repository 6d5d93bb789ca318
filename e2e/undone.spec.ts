import AxeBuilder from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { openWorkspace, send, signIn, watchConsole } from './support/app';

const bollard = (more: string) =>
  `create table core.bollard (
  bollard_no bigint options (role 'surrogate key') primary key,
  quay       text   not null${more && `,\n  ${more} text`}
) with (load = merge, business_key = 'quay');
select q.quay${more && `, 'wrong' as ${more}`} from (values ('north'), ('south')) as q (quay);
`;

/** The first rows of a table of production, as texts. */
async function rowsOf(page: Page, sql: string): Promise<string[]> {
  const { rows } = await send<{ rows: (string | null)[][] }>(page, 'POST', 'workspaces/production/preview', {
    path: 'adhoc/x.sql',
    text: sql,
    limit: 50,
  });
  return rows.map((r) => r.join(' '));
}

const TAGS = ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'];

async function serious(axe: AxeBuilder): Promise<string[]> {
  const { violations } = await axe.withTags(TAGS).setLegacyMode(true).analyze();
  return violations.filter((v) => ['serious', 'critical'].includes(v.impact ?? '')).map((v) => v.id);
}

async function released(page: Page): Promise<void> {
  await page.getByRole('button', { name: 'Release to production' }).click();
  await expect(page.locator('header').getByText('succeeded')).toBeVisible();
}

test('after a bad release and a load, production goes back by the copies that were kept, and that is undone', async ({
  page,
}) => {
  test.setTimeout(180_000);
  const messages = watchConsole(page);
  await signIn(page, 'mira');
  const release = async (name: string, text: string) => {
    const slug = await openWorkspace(page, name);
    await send(page, 'PUT', `workspaces/${slug}/drafts`, { path: 'core/bollard.sql', text, version: 0 });
    await send(page, 'POST', `workspaces/${slug}/commits`, { message: name });
    await page.goto(`/w/${slug}/releases`);
    await released(page);
  };
  await release('Bollards', bollard(''));
  await release('Bollards by maker', bollard('maker'));
  await send(page, 'POST', 'workspaces/production/runs', {
    tables: ['core.bollard'],
    upstream: false,
    downstream: false,
  });
  const columns = `select string_agg(k, ' ' order by k) as columns from core.bollard as b, lateral jsonb_object_keys(to_jsonb(b)) as k group by b.quay order by 1`;
  expect(await rowsOf(page, columns)).toEqual(['bollard_no maker quay', 'bollard_no maker quay']);

  const goBack = async (message: string) => {
    await page.goto('/w/production/releases');
    await page
      .getByRole('row', { name: new RegExp(message) })
      .getByRole('link')
      .first()
      .click();
    await page.getByRole('button', { name: 'Go back to before it …' }).click();
    await page.getByRole('radio', { name: /^Restore the kept copies/ }).click();
    await expect(page.getByRole('list', { name: 'Tables that come back' })).toContainText('core.bollard comes back');
    expect(await serious(new AxeBuilder({ page }).include('[role=dialog]'))).toEqual([]);
    await page.getByRole('button', { name: 'Open the workspace' }).click();
    await expect(page.getByText('Puts 1 kept copy back, all in one transaction.')).toBeVisible();
    await released(page);
  };
  await goBack('Bollards by maker');
  expect(await rowsOf(page, columns)).toEqual(['bollard_no quay', 'bollard_no quay']);
  await page.goto('/w/production/settings/copies');
  await expect(page.getByRole('row', { name: /Restore from before release/ })).toContainText('core.bollard');
  expect(await serious(new AxeBuilder({ page }))).toEqual([]);

  await goBack('Restore from before release');
  expect(await rowsOf(page, columns)).toEqual(['bollard_no maker quay', 'bollard_no maker quay']);
  expect(messages).toEqual([]);
});
