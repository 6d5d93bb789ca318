import { held } from './app.mjs';

export const title = 'trees with links, submodules, .git, .. and doubled slashes are pushed';

export async function attack(app) {
  const clone = await app.clone();
  try {
    const blob = await clone.input(['hash-object', '-w', '--stdin'], '/etc/passwd');
    const head = await clone.git('rev-parse', 'HEAD');
    const base = await clone.git('ls-tree', 'HEAD');
    const inner = await clone.input(['mktree'], `100644 blob ${blob}\tconfig\n`);
    // What mktree refuses is written as an object by hand.
    const raw = async (entries) => {
      const bytes = Buffer.concat(
        entries.flatMap(([mode, name, id]) => [Buffer.from(`${mode} ${name}\0`), Buffer.from(id, 'hex')]),
      );
      return clone.input(['hash-object', '-t', 'tree', '-w', '--stdin', '--literally'], bytes);
    };
    const cases = {
      'a symbolic link': await clone.input(['mktree'], `${base}\n120000 blob ${blob}\tz.sql\n`),
      'a submodule': await clone.input(['mktree', '--missing'], `${base}\n160000 commit ${head}\tzz\n`),
      '.git': await raw([['40000', '.git', inner]]),
      '.GIT': await raw([['40000', '.GIT', inner]]),
      '..': await raw([['40000', '..', inner]]),
      '.': await raw([['40000', '.', inner]]),
      'an absolute path': await raw([['100644', '/a.sql', blob]]),
      'a doubled slash': await raw([['100644', 'staging//a.sql', blob]]),
    };
    for (const [what, tree] of Object.entries(cases)) {
      const commit = await clone.git('commit-tree', tree, '-p', head, '-m', 'x');
      const said = await clone.refused('--quiet', 'origin', `${commit}:refs/heads/workspace/hostile`);
      held(said !== undefined, `${what} is taken`);
      held(/refused|fsck|error|contains|invalid|hasDot/i.test(said), `${what} is refused without a reason: ${said}`);
    }
  } finally {
    clone.remove();
  }
}
