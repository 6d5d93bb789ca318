import { held, sleep } from './app.mjs';

export const title = 'the kept git reader dies';

export async function attack(app) {
  const mira = await app.as('mira');
  for (const { pid } of app.processes(/git .*cat-file --batch/)) process.kill(pid, 'SIGKILL');
  await sleep(300);
  const slug = await app.workspace('Reader', 'mira');
  await app.draft(slug, 'staging/new.sql', `select ${Date.now()} as n`, 'mira');
  const commit = await mira.send('POST', `/api/workspaces/${slug}/commits`, { message: 'x' });
  held(commit.status === 201, `a commit answers ${commit.status}`);
  const { status, body } = await mira.get(`/api/workspaces/${slug}/files`);
  held(status === 200 && 'staging/new.sql' in body.files, `the files answer ${status}`);
}
