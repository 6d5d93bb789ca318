import { treeEntryProblem } from '@ouvrage/core/index';
import { isSlug } from './slugs.js';
import { GitStore } from './git.js';

/**
 * Git's update hook: `update-hook.js REF OLD NEW`, run by git itself for each pushed name. Branches of
 * workspaces are taken and nothing else: production moves by releases only. What a branch holds may have
 * errors, but is plain files.
 */
const [ref = '', , to = ''] = process.argv.slice(2);

/** Commits of one push whose trees are read. */
const MOST_COMMITS = 5000;

async function verdict(): Promise<string | undefined> {
  if (ref === 'refs/heads/main')
    return 'main is what production runs: it moves by a release. Push to workspace/NAME and release from there.';
  const slug = /^refs\/heads\/workspace\/(.*)$/s.exec(ref)?.[1];
  if (slug === undefined)
    return `Only branches of workspaces are accepted, not ${ref}. Push to workspace/NAME, for example: git push origin HEAD:workspace/NAME`;
  if (!isSlug(slug))
    return 'A workspace’s name has lower-case letters, digits and hyphens, at most 40 characters, and is not production, main or head.';
  const git = new GitStore(process.env['GIT_DIR'] ?? '.');
  if (await git.isDeleted(slug)) return `The workspace ${slug} was deleted. Push to workspace/NAME with another name.`;
  const commits = (await git.git(['rev-list', `--max-count=${MOST_COMMITS + 1}`, to, '--not', '--all']))
    .split('\n')
    .filter(Boolean);
  if (commits.length > MOST_COMMITS) return `A push may bring ${MOST_COMMITS} commits; push in several steps.`;
  for (const commit of commits.length ? commits : [to]) {
    for (const { mode, path } of await git.entries(commit)) {
      const problem = treeEntryProblem(mode, path);
      if (problem) return `Commit ${commit.slice(0, 12)} is refused: ${problem}.`;
    }
  }
  return undefined;
}

const refused = await verdict();
if (refused) {
  process.stderr.write(`${refused}\n`);
  process.exitCode = 1;
}
