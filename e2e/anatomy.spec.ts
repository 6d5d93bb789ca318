import { expect, test, type Page } from '@playwright/test';
import { editorText, openWorkspace, signIn, watchConsole, write } from './support/app';

test('a join that multiplies is found by its counts, looked at by its keys, and mended', async ({ page }) => {
  const messages = watchConsole(page);
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Find the join');
  await page.goto(`/w/${slug}/tables/mart.vessel_dues`);
  const released = await editorText(page, slug, 'mart/vessel_dues.sql');
  const join = 'left join core.berth_rate r on r.berth_code = d.berth_code';
  const drafted = released.replace('v.is_current\nwhere', `v.is_current\n${join}\nwhere`);
  await write(page, drafted);

  await page.getByRole('tab', { name: 'Anatomy' }).click();
  const steps = page.getByRole('listbox', { name: 'Steps of the query' });
  const culprit = steps.getByRole('option', { name: /multiplies: 22 keys/ });
  await expect(culprit).toBeVisible();
  await expect(steps.getByRole('option', { name: /^2 source/ })).toContainText('same');
  await culprit.click();
  // Its text is marked, its keys are shown, and their rows on the right.
  await expect(page.locator('.cm-content .bg-wash').first()).toContainText('left join');
  await page.getByRole('button', { name: /keys that multiply 22/ }).click();
  const rows = page.getByRole('grid', { name: 'Rows of step 5' });
  await expect(rows.getByRole('columnheader', { name: /right rows/ })).toBeVisible();
  await page.getByRole('button', { name: /their rows, right/ }).click();
  await expect(rows.getByRole('columnheader', { name: /as_of/ })).toBeVisible();

  // One rate a berth: the step is as production's again.
  await write(page, drafted.replace(join, `${join} and r.is_current`));
  await page.getByRole('button', { name: 'Count again' }).click();
  await expect(steps.getByRole('option', { name: /many to one/ }).last()).toBeVisible();
  await expect(steps.getByText(/multiplies/)).toHaveCount(0);
  await expect(steps.getByRole('option', { name: /result/ })).toContainText('4 checks of the contract hold');
  expect(messages).toEqual([]);
});

/** How many runs a workspace has had, and the state of the newest. */
const runsOf = (page: Page, slug: string): Promise<string> =>
  page.evaluate(async (environment) => {
    const runs = (await (await fetch('/api/runs')).json()) as { environment: string; state: string }[];
    const own = runs.filter((r) => r.environment === environment);
    return `${own.length} ${own[0]?.state}`;
  }, slug);

test('a slow step is found by the plan, its index declared and built, and the query is worked out otherwise', async ({
  page,
}) => {
  const messages = watchConsole(page);
  await signIn(page, 'jonas');
  const slug = await openWorkspace(page, 'Slow step');
  const save = async (path: string, text: string) => {
    const saved = await page.evaluate(
      async ({ slug, path, text }) => {
        const { csrf } = (await (await fetch('/api/session')).json()) as { csrf: string };
        const headers = { 'content-type': 'application/json', 'x-csrf-token': csrf };
        const body = JSON.stringify({ path, text, version: 0 });
        return (await fetch(`/api/workspaces/${slug}/drafts`, { method: 'PUT', headers, body })).status;
      },
      { slug, path, text },
    );
    expect(saved).toBe(200);
  };
  await save(
    'staging/soundings.sql',
    "create table staging.soundings (sounding integer primary key, buoy text not null);\n\nselect n as sounding, 'buoy ' || n % 5000 as buoy\nfrom generate_series(1, 200000) as s (n);\n",
  );
  await save('staging/one_buoy.sql', "select sounding\nfrom staging.soundings\nwhere buoy = 'buoy 77'\n");
  const build = async (nth: number) => {
    await page.goto(`/w/${slug}/tables/staging.soundings`);
    await page.getByRole('button', { name: 'Run table' }).click();
    await expect.poll(() => runsOf(page, slug)).toBe(`${nth} succeeded`);
  };
  await build(1);

  await page.goto(`/w/${slug}/tables/staging.one_buoy`);
  await page.getByRole('tab', { name: 'Plan' }).click();
  await expect(page.getByText('200,000 rows of staging.soundings are read to keep 40')).toBeVisible();
  await expect(page.getByText('seq scan')).toBeVisible();
  await page.getByRole('button', { name: 'Add to staging.soundings' }).click();
  await expect(page.getByText('Draft of staging.soundings saved', { exact: true })).toBeVisible();
  await build(2);

  await page.goto(`/w/${slug}/tables/staging.one_buoy`);
  await page.getByRole('tab', { name: 'Plan' }).click();
  await expect(page.getByText(/bitmap heap scan|index scan/).first()).toBeVisible();
  await expect(page.getByText('seq scan')).toHaveCount(0);
  expect(messages).toEqual([]);
});
