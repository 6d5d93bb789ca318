import { held } from './app.mjs';

export const title = 'an editor binds a connection to a server of production';

export async function attack(app) {
  const jonas = await app.as('jonas');
  const slug = await app.workspace('Binding');
  const [connection] = (await jonas.get('/api/connections')).body;
  const server = 'stolen_server';
  await jonas.send('POST', `/api/workspaces/${slug}/import/bind`, { connection: connection.id, server });
  const after = (await jonas.get('/api/connections')).body;
  held(!after.some((c) => c.bound.some((b) => b.server === server)), 'the server is bound');
}
