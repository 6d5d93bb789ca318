import { loadParser, readProject, lineColumn } from '@ouvrage/core';
import { GitStore } from './git.js';

/**
 * Git's update hook: `update-hook.js REF OLD NEW`, run by git itself for each pushed branch.
 * Workspace branches take anything; production moves by releases only; any other branch has to
 * hold a project without errors.
 */
const [ref = '', , to = ''] = process.argv.slice(2);

async function verdict(): Promise<string | undefined> {
  if (ref.startsWith('refs/heads/workspace/')) {
    return /^refs\/heads\/workspace\/[a-z0-9][a-z0-9-]{0,39}$/.test(ref)
      ? undefined
      : 'A workspace’s name has lower-case letters, digits and hyphens, 40 at most.';
  }
  if (ref === 'refs/heads/main') return 'main is what production runs: it moves by a release. Push to workspace/NAME and release from there.';
  if (!ref.startsWith('refs/heads/')) return undefined;
  await loadParser();
  const git = new GitStore(process.env['GIT_DIR'] ?? '.');
  try {
    const project = readProject(await git.files(to));
    const errors = project.diagnostics.filter((d) => d.severity === 'error');
    if (errors.length === 0) return undefined;
    const lines = errors.slice(0, 10).map((d) => {
      const { line, column } = lineColumn(project.files.get(d.path)?.text ?? '', d.range.start);
      return `  ${d.path}:${line}:${column} ${d.message}${d.hint ? ` (${d.hint})` : ''}`;
    });
    return `The project has ${errors.length} errors; only a workspace/ branch may have them.\n${lines.join('\n')}`;
  } finally {
    git.close();
  }
}

const refused = await verdict();
if (refused) {
  process.stderr.write(`${refused}\n`);
  process.exitCode = 1;
}
