import { held } from './app.mjs';
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';

export const title = 'a file pattern that matches for ever';

export async function attack(app) {
  const mira = await app.as('mira');
  const slug = await app.workspace('Pattern', 'mira');
  await app.draft(
    slug,
    'sources/stars.sql',
    `create server stars foreign data wrapper file_fdw;\ncreate foreign table landing.stars (a text) server stars options (pattern '${'*'.repeat(30)}y.csv', format 'csv');`,
    'mira',
  );
  await mira.send('POST', `/api/workspaces/${slug}/commits`, { message: 'Stars' });
  const asked = await mira.send('POST', `/api/workspaces/${slug}/release`, { message: 'Stars' });
  if (asked.status === 201) await app.ended(mira, asked.body.id, 120);
  const name = `${'x'.repeat(120)}.csv`;
  mkdirSync(app.drop, { recursive: true });
  await app.watched(async () => {
    writeFileSync(path.join(app.drop, name), 'a\n1\n');
    const found = await app.delivered(name, 30);
    held(found !== undefined, 'the file is not dealt with');
  });
}
