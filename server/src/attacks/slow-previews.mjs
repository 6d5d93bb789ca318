import { held, sleep } from './app.mjs';

export const title = 'one viewer’s slow previews keep everybody waiting';

export async function attack(app) {
  const [vera, mira] = [await app.as('vera'), await app.as('mira')];
  const slow = { path: 'adhoc/a.sql', text: 'select count(*) as n from generate_series(1, 90000000000)', limit: 1 };
  const attacks = Array.from({ length: 12 }, () =>
    vera.send('POST', '/api/workspaces/production/preview', slow, { timeout: 90_000 }).catch(() => ({ status: 0 })),
  );
  await sleep(1000);
  const started = performance.now();
  const quick = await mira.send(
    'POST',
    '/api/workspaces/production/preview',
    { path: 'adhoc/b.sql', text: 'select 1 as one', limit: 1 },
    { timeout: 60_000 },
  );
  const took = performance.now() - started;
  held(quick.status === 200 && took < 5000, `another’s preview answers ${quick.status} after ${Math.round(took)} ms`);
  const statuses = (await Promise.all(attacks)).map((a) => a.status);
  held(statuses.filter((s) => s === 429).length >= 8, `the answers were ${statuses.join(', ')}`);
}
