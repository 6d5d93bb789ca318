import { held } from './app.mjs';

export const title = 'a source’s condition leaves its COPY and writes into the source';

export async function attack(app) {
  const jonas = await app.as('jonas');
  const slug = await app.workspace('Condition');
  const { files } = (await jonas.get(`/api/workspaces/${slug}/files`)).body;
  const file = 'sources/port_ops.sql';
  // Each closes what the condition may stand in: brackets of its own, or none.
  for (const closing of ['true)', 'true']) {
    const evil = `${closing}) to stdout; commit; create table ops.hacked (n integer); begin; copy (select 1 where (true`;
    const text = files[file].replace(
      /create foreign table landing\.port \(([\s\S]*?)\) server port_ops options \(/,
      (all) => `${all}only '${evil}', `,
    );
    held(text !== files[file], 'the attack did not find its place');
    await app.draft(slug, file, text);
    const asked = await jonas.send('POST', `/api/workspaces/${slug}/intake`, { tables: ['landing.port'] });
    if (asked.status === 201) await app.ended(jonas, asked.body.id, 30).catch(() => undefined);
  }
  const health = await app.request('GET', '/api/health').catch((error) => ({ status: error.message }));
  held(health.status === 200, `the server answers ${health.status}`);
  const [connection] = (await jonas.get('/api/connections')).body;
  const { body } = await jonas.get(`/api/workspaces/${slug}/catalog/${connection.id}`);
  held(!body.tables.some((t) => t.name === 'hacked'), 'a table was made in the source');
}
