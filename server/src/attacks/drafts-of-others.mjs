import { held } from './app.mjs';

export const title = 'who saves a draft last takes it from who wrote it';

export async function attack(app) {
  const slug = await app.workspace('Authors', 'mira');
  await (await app.as('mira')).send('PUT', `/api/workspaces/${slug}/sharing`, { all: true, names: [] });
  await app.draft(slug, 'staging/authored.sql', 'select 1 as written_by_jonas', 'jonas');
  await app.draft(slug, 'staging/authored.sql', 'select 1 as written_by_jonas -- and touched', 'mira');
  const { body: commit } = await (
    await app.as('mira')
  ).send('POST', `/api/workspaces/${slug}/commits`, { message: 'Mine alone' });
  const [found] = (await (await app.as('mira')).get(`/api/workspaces/${slug}/commits`)).body;
  held(JSON.stringify([commit, found]).includes('Jonas Reet'), 'the commit does not name who wrote it');
}
