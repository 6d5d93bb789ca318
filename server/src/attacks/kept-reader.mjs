import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { held, kill, sleep } from './app.mjs';

export const title = 'the kept git reader dies';

/** As many as that more is asked of the reader than a pipe holds. */
const FILES = 4000;

export async function attack(app) {
  const mira = await app.as('mira');
  const killReaders = () => kill(app.processes(/git .*cat-file --batch/), 'SIGKILL');
  // It dies while much is asked of it.
  const clone = await app.clone('mira');
  try {
    for (let attempt = 0; attempt < 3; attempt++) {
      const branch = `workspace/reader-${attempt}`;
      await clone.git('checkout', '--quiet', '-B', branch, 'origin/main');
      mkdirSync(path.join(clone.folder, 'docs/many'), { recursive: true });
      for (let i = 0; i < FILES; i++)
        writeFileSync(path.join(clone.folder, `docs/many/${i}.md`), `${attempt} ${i}\n`.repeat(20));
      await clone.git('add', '.');
      await clone.git('commit', '--quiet', '-m', 'x');
      const refused = await clone.refused('--quiet', 'origin', branch);
      held(refused === undefined, `the push is refused: ${refused}`);
      // A request may fail; the server may not.
      const asked = mira.get(`/api/workspaces/reader-${attempt}/files`).catch(() => undefined);
      for (let i = 0; i < 30; i++) {
        await sleep(5);
        killReaders();
      }
      await asked;
      const health = await app.request('GET', '/api/health').catch((error) => ({ status: error.message }));
      held(health.status === 200, `the server answers ${health.status}`);
    }
  } finally {
    clone.remove();
  }
  killReaders();
  await sleep(300);
  const slug = await app.workspace('Reader', 'mira');
  await app.draft(slug, 'staging/new.sql', `select ${Date.now()} as n`, 'mira');
  const commit = await mira.send('POST', `/api/workspaces/${slug}/commits`, { message: 'x' });
  held(commit.status === 201, `a commit answers ${commit.status}`);
  const { status, body } = await mira.get(`/api/workspaces/${slug}/files`);
  held(status === 200 && 'staging/new.sql' in body.files, `the files answer ${status}`);
}
