import { treeEntryProblem } from '@ouvrage/core/index';
import { readFileSync } from 'node:fs';
import { isSlug } from './slugs.js';
import { GitStore } from './git.js';

/**
 * Git's update hook: `update-hook.js REF OLD NEW`, run by git itself for each pushed name. Branches are taken and
 * nothing else, each a workspace's, which must be shared with who pushes; production moves by releases only. What a
 * branch holds may have errors, but is plain files.
 */
const [ref = '', , to = ''] = process.argv.slice(2);

/** Commits of one push whose trees are read. */
const MOST_COMMITS = 5000;
/** What a branch may be called that becomes a workspace. */
const BRANCH_NAME = /^[\p{L}\p{M}\p{N}._/+@#-]{1,200}$/u;

/** Names of workspaces that are not shared with who pushes, as the server has written them down. */
const unshared = (): readonly string[] =>
  JSON.parse(readFileSync(process.env['OUVRAGE_UNSHARED'] ?? '', 'utf8')) as string[];

async function verdict(): Promise<string | undefined> {
  if (ref === 'refs/heads/main')
    return 'main is what production runs: it moves by a release. Push to workspace/NAME and release from there.';
  const branch = /^refs\/heads\/(.*)$/s.exec(ref)?.[1];
  if (branch === undefined)
    return `Only branches are accepted, not ${ref}. Push to a branch, for example: git push origin HEAD:workspace/NAME`;
  if (/^head$/i.test(branch)) return `${branch} is git’s own name. Push to workspace/NAME.`;
  if (!BRANCH_NAME.test(branch))
    return 'A branch’s name has letters, digits and the characters . _ / + @ # -, at most 200.';
  const git = new GitStore(process.env['GIT_DIR'] ?? '.');
  const [, slug] = /^refs\/heads\/workspace\/(.*)$/s.exec((await git.otherNames()).get(ref) ?? ref) ?? [];
  if (slug !== undefined && !isSlug(slug))
    return 'A workspace’s name has lower-case letters, digits and hyphens, at most 40 characters, and is not production, main or head.';
  if (slug !== undefined && unshared().includes(slug))
    return `The workspace ${slug} is not shared with you. Ask its owner to share it, or push to a branch of another name.`;
  if (slug !== undefined && (await git.isDeleted(slug)))
    return `The workspace ${slug} was deleted. Push to workspace/NAME with another name.`;
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
