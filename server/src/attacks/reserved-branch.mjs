import { held } from './app.mjs';

export const title = 'a pushed branch workspace/production becomes a workspace over main';

export async function attack(app) {
  const before = await app.main();
  const clone = await app.clone();
  try {
    for (const name of ['production', 'main', 'head']) {
      await clone.refused('--quiet', 'origin', `HEAD:refs/heads/workspace/${name}`);
      const jonas = await app.as('jonas');
      const { body } = await jonas.get('/api/workspaces');
      held(!body.some((w) => w.slug === name), `${name} is a workspace`);
    }
    await app.draft('production', 'staging/port.sql', 'select 1 as hacked');
    await (await app.as('jonas')).send('POST', '/api/workspaces/production/commits', { message: 'hacked' });
    held((await app.main()) === before, 'main moved by a draft and a commit');
    const made = (await (await app.as('jonas')).send('POST', '/api/workspaces', { name: 'Production' })).body;
    held(made.slug !== 'production', 'a workspace is called production');
  } finally {
    clone.remove();
  }
}
