import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Agreement } from '@ouvrage/api/agreement';
import { draft, startApplication, workspace, type Client, type TestApplication } from '../testing.js';

/** People agree to checks and contracts as they are; another text is agreed by nobody. */
let application: TestApplication;
let mira: Client;
let vera: Client;
let slug: string;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  vera = await application.signIn('vera');
  slug = await workspace(mira, 'Agreements');
});
afterAll(() => application.close());

const CHECK = { kind: 'check', subject: 'core.fact_dues/fact_dues_amount_check' } as const;
const CONTRACT = { kind: 'contract', subject: 'core.fact_dues' } as const;
const agree = (who: Client, body: Record<string, unknown>, of = 'production') =>
  who.send('post', `/api/workspaces/${of}/agreements`, body);
const list = async (of: string) => (await mira.get(`/api/workspaces/${of}/agreements`)).body as Agreement[];
const inShort = async (of: string) =>
  (await list(of))
    .map((a) => `${a.person}${a.desk ? ` for ${a.desk}` : ''}: ${a.subject}, ${a.holds ? 'holds' : 'fallen'}`)
    .sort();

test('holds for the text that was agreed, wherever it is; layout and comments do not matter, a changed text does', async () => {
  expect((await agree(vera, { ...CHECK, desk: 'dues office' })).status).toBe(204);
  expect((await agree(mira, CONTRACT)).status).toBe(204);
  const held = [
    'Mira Okafor: core.fact_dues, holds',
    'Vera Lund for dues office: core.fact_dues/fact_dues_amount_check, holds',
  ];
  expect(await inShort('production')).toEqual(held);
  await draft(
    mira,
    slug,
    'core/fact_dues.sql',
    (t) => `-- A word.\n${t.replace('check (amount >= 0)', 'check ( amount  >=  0 )')}`,
  );
  expect(await inShort(slug)).toEqual(held);
  await draft(mira, slug, 'core/fact_dues.sql', (t) => t.replace('check ( amount  >=  0 )', 'check (amount > 0)'));
  expect(await inShort(slug)).toEqual(held.map((h) => h.replace('holds', 'fallen')));
  expect(await inShort('production')).toEqual(held);
  await draft(mira, slug, 'core/fact_dues.sql', (t) => t.replace(' check (amount > 0)', ''));
  expect(await inShort(slug)).toEqual(held.map((h) => h.replace('holds', 'fallen')));
});

test('is given again and withdrawn by who gave it', async () => {
  await agree(vera, CHECK, 'production');
  expect(await inShort('production')).toContain('Vera Lund: core.fact_dues/fact_dues_amount_check, holds');
  await mira.send('post', '/api/workspaces/production/agreements/withdraw', CHECK);
  expect(await inShort('production')).toHaveLength(2);
  await vera.send('post', '/api/workspaces/production/agreements/withdraw', CHECK);
  await mira.send('post', '/api/workspaces/production/agreements/withdraw', CONTRACT);
  expect(await inShort('production')).toEqual([]);
});

test.each<[string, Record<string, unknown>, number, string]>([
  ['a desk that is not one’s own', { ...CHECK, desk: 'harbour master' }, 403, 'You can agree for dues office.'],
  [
    'a check that is not there',
    { kind: 'check', subject: 'core.fact_dues/fact_dues_amount_chek' },
    404,
    'did you mean core.fact_dues/fact_dues_amount_check?',
  ],
  ['a table without a contract', { kind: 'contract', subject: 'staging.call' }, 404, 'staging.call has no contract'],
])('%s is refused', async (_, body, status, words) => {
  const answer = await agree(mira, body);
  expect(answer.status).toBe(status);
  expect(JSON.stringify(answer.body)).toContain(words);
});
