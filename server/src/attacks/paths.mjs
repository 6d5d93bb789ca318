import { held } from './app.mjs';

export const title = 'drafts under paths that a commit would lose';

export async function attack(app) {
  const jonas = await app.as('jonas');
  const slug = await app.workspace('Odd paths');
  for (const file of [
    '/staging/a.sql',
    'staging//a.sql',
    './staging/a.sql',
    'staging/../a.sql',
    'staging/.git/a.sql',
    'staging/a.sql/',
  ]) {
    const { status } = await jonas.send('PUT', `/api/workspaces/${slug}/drafts`, {
      path: file,
      text: 'select 1 as a',
      version: 0,
    });
    if (status !== 200) {
      held(status === 400, `${file} answers ${status}`);
      continue;
    }
    await jonas.send('POST', `/api/workspaces/${slug}/commits`, { message: 'x' });
    const { body } = await jonas.get(`/api/workspaces/${slug}/files`);
    held('staging/a.sql' in body.files, `${file} was taken as a draft and is in no commit`);
  }
  const history = await jonas.get(`/api/workspaces/${slug}/history?path=${encodeURIComponent('/etc/passwd.sql')}`);
  held(history.status < 500, `the history of an absolute path answers ${history.status}`);
}
