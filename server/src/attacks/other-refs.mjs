import { held } from './app.mjs';

export const title = 'replaced objects, tags, notes, and branches that are no workspace’s are pushed';

export async function attack(app) {
  const clone = await app.clone();
  const mira = await app.as('mira');
  try {
    const file = async () => (await mira.get('/api/workspaces/production/files')).body.files['staging/port.sql'];
    const [main, before] = [await app.main(), await file()];
    const blob = await clone.input(['hash-object', '-w', '--stdin'], 'select 1 as hacked\n');
    const tree = await clone.input(['mktree'], `100644 blob ${blob}\tlayers.sql\n`);
    const swapped = await clone.git('commit-tree', tree, '-m', 'hacked');
    const taken = [];
    for (const ref of [
      `refs/replace/${main}`,
      'refs/tags/v1',
      'refs/notes/x',
      'refs/meta/x',
      'refs/heads/HEAD',
      'refs/heads/workspace',
      'refs/heads/workspace/Not_A_Name',
    ]) {
      const said = await clone.refused('--quiet', 'origin', `${swapped}:${ref}`);
      if (said === undefined) taken.push(ref);
    }
    held((await file()) === before, 'production’s contents were swapped under an unchanged commit');
    held(taken.length === 0, `taken: ${taken.join(', ')}`);
    // Branches of other names become workspaces, and nothing more.
    for (const name of ['other', 'Workspace/x'])
      await clone.refused('--quiet', 'origin', `${swapped}:refs/heads/${name}`);
    held((await file()) === before && (await app.main()) === main, 'a branch of another name changed production');
    const names = (await mira.get('/api/workspaces')).body.map((w) => w.name);
    held(
      ['other', 'Workspace/x'].every((name) => names.includes(name)),
      'a pushed branch is no workspace',
    );
    held(
      (await clone.refused('--quiet', 'origin', '+HEAD~0:refs/heads/main')) !== undefined ||
        (await app.main()) === main,
      'main moved',
    );
  } finally {
    clone.remove();
  }
}
