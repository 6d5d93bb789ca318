import { held } from './app.mjs';
import { statSync } from 'node:fs';
import path from 'node:path';

export const title = 'answers are cached, the API is described to strangers, folders are open';

export async function attack(app) {
  const vera = await app.as('vera');
  for (const where of ['/api/session', '/api/tokens', '/api/workspaces', '/api/runs']) {
    const { headers } = await vera.get(where);
    held(/no-store/.test(headers['cache-control'] ?? ''), `${where} may be kept: ${headers['cache-control']}`);
  }
  for (const where of ['/api/docs', '/api/docs-json', '/api/docs/', '/api/docs-yaml', '/api/DOCS-json']) {
    const { status } = await app.request('GET', where);
    held(status === 401 || status === 404, `${where} answers a stranger ${status}`);
  }
  for (const folder of ['project.git', 'drop']) {
    const mode = statSync(path.join(app.data, folder)).mode & 0o777;
    held(mode === 0o700, `${folder} has the mode ${mode.toString(8)}`);
  }
}
