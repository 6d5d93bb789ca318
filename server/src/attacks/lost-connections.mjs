import { held, kill, until } from './app.mjs';

export const title = 'connections to the warehouse end during a load';

export async function attack(app) {
  const slug = await app.workspace('Lost', 'mira');
  await app.draft(
    slug,
    'staging/slow.sql',
    'create table staging.slow as select count(*) as n from generate_series(1, 400000000)',
    'mira',
  );
  const mira = await app.as('mira');
  const asked = await mira.send('POST', `/api/workspaces/${slug}/runs`, {
    tables: ['staging.slow'],
    upstream: false,
    downstream: false,
  });
  const backends = await until(() => {
    const found = app.backends(/postgres: ouvrage_/);
    return found.some((b) => /SELECT|CREATE/.test(b.line)) && found;
  });
  held(backends.length > 0, 'the attack found no connection');
  kill(backends, 'SIGTERM');
  await until(async () => app.backends(/postgres: ouvrage_/).every((b) => !backends.some((old) => old.pid === b.pid)));
  await until(async () => (await app.request('GET', '/api/health').catch(() => undefined))?.status === 200);
  const ended = await app.ended(mira, asked.body.id, 40).catch(() => ({ state: 'unknown' }));
  held(['failed', 'interrupted'].includes(ended.state), `the run is ${ended.state}`);
  const again = await app.run('production', ['core.dim_owner'], { as: 'mira', upstream: false });
  held(again.state === 'succeeded', `a run after it is ${again.state}`);
}
