import { held } from './app.mjs';
import { mkdirSync, renameSync, existsSync, writeFileSync } from 'node:fs';
import path from 'node:path';

export const title = 'a file named failed stops all deliveries';

export async function attack(app) {
  mkdirSync(app.drop, { recursive: true });
  for (const name of ['failed', 'archive']) {
    const place = path.join(app.drop, name);
    if (existsSync(place)) renameSync(place, `${place}-before-${Date.now()}`);
    writeFileSync(place, 'x');
  }
  writeFileSync(path.join(app.drop, 'zz_unknown.csv'), 'a\n1\n');
  const found = await app.delivered('zz_unknown.csv', 30);
  held(found?.state === 'unknown', `another file is ${found?.state ?? 'not dealt with'}`);
  const mira = await app.as('mira');
  const upload = await mira.send('POST', '/api/deliveries/file?name=failed', undefined, {
    raw: 'x',
    headers: { 'content-type': 'application/octet-stream' },
  });
  held(upload.status === 400, `a file of that name is taken: ${upload.status}`);
}
