import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { createHash } from 'node:crypto';
import path from 'node:path';
import { has, isRoot, Plain, ROOT, run, say } from './shell.mjs';

const WANTED = {
  postgresql: () => postgresBinaries() !== undefined,
  git: () => has('git'),
  chromium: () => existsSync('/usr/bin/chromium'),
};

/** The folder of PostgreSQL's programs, 15 or newer. */
export function postgresBinaries() {
  for (const version of [17, 16, 15]) {
    const folder = `/usr/lib/postgresql/${version}/bin`;
    if (existsSync(`${folder}/initdb`)) return folder;
  }
  return undefined;
}

/** Installs what is missing of Debian's packages, or says which command does. */
export async function ensureDebian(names) {
  const missing = names.filter((name) => !WANTED[name]());
  if (missing.length === 0) return;
  const command = `apt-get install -y --no-install-recommends ${missing.join(' ')}`;
  const sudo = isRoot ? [] : ['sudo', '-n'];
  if (!has('apt-get'))
    throw new Plain(`${missing.join(', ')} is missing, and this is no Debian: install it, then start again`);
  if (
    !isRoot &&
    !(await run('sudo', ['-n', 'true']).then(
      () => true,
      () => false,
    ))
  ) {
    throw new Plain(`missing: ${missing.join(', ')}. Run\n  sudo ${command}\nthen start again`);
  }
  say(`Installing ${missing.join(', ')} from Debian's packages ...`);
  const apt = (args) => {
    const [program, ...rest] = [...sudo, 'apt-get', ...args];
    return run(program, rest, { env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
  };
  await apt(['update', '-q']);
  // The package would start a cluster of its own; ours is private.
  await apt(['install', '-y', '-q', '--no-install-recommends', ...missing]);
}

/** Installs the npm packages when the lock file is not the installed one. */
export async function ensureNpm() {
  const lock = createHash('sha256')
    .update(readFileSync(path.join(ROOT, 'package-lock.json')))
    .digest('hex');
  const mark = path.join(ROOT, 'node_modules/.ouvrage-lock');
  if (existsSync(mark) && readFileSync(mark, 'utf8') === lock) return;
  say('Installing npm packages (a minute or two) ...');
  await run('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error']);
  writeFileSync(mark, lock);
}
