import { existsSync, mkdirSync, mkdtempSync, readdirSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { has, isRoot, run, say } from './shell.mjs';

/** Where the server can read it, too: its scripts copy from files. */
const BASE = isRoot ? '/var/tmp' : os.tmpdir();
const FOLDER = path.join(BASE, 'ouvrage-regression-15');

/**
 * The regression suite of PostgreSQL 15, from Debian's source package, which is fetched once with a list of sources of
 * our own.
 * @returns its folder; undefined where the package cannot be had
 */
export async function regressionSuite() {
  if (existsSync(path.join(FOLDER, 'parallel_schedule'))) return FOLDER;
  if (!has('apt-get') || !has('tar') || !has('bzip2')) return undefined;
  const work = mkdtempSync(path.join(BASE, 'ouvrage-source-'));
  try {
    for (const folder of ['lists', 'archives']) mkdirSync(path.join(work, folder));
    const list = path.join(work, 'sources.list');
    writeFileSync(
      list,
      'deb-src [signed-by=/usr/share/keyrings/debian-archive-keyring.gpg] http://deb.debian.org/debian bookworm main\n',
    );
    const options = [
      `Dir::Etc::SourceList=${list}`,
      'Dir::Etc::SourceParts=/dev/null',
      `Dir::State::lists=${work}/lists`,
      `Dir::Cache=${work}/archives`,
      'APT::Sandbox::User=',
      'Acquire::Retries=1',
    ].flatMap((o) => ['-o', o]);
    const quiet = { cwd: work, stdio: 'ignore' };
    await run('apt-get', [...options, 'update'], quiet);
    await run('apt-get', [...options, 'source', '--download-only', 'postgresql-15'], quiet);
    const archive = readdirSync(work).find((f) => /\.orig\.tar\./.test(f));
    await run('tar', ['xf', archive, '--strip-components=4', '--wildcards', '*/src/test/regress/*'], quiet);
    for (const file of readdirSync(work).filter((f) => /^(sources\.list|lists|archives|postgresql-15_.*)$/.test(f)))
      rmSync(path.join(work, file), { recursive: true, force: true });
    await run('chmod', ['-R', 'a+rX', work], quiet);
    renameSync(work, FOLDER);
    return FOLDER;
  } catch (error) {
    say(`The source package of PostgreSQL was not fetched: ${error.message}`);
    rmSync(work, { recursive: true, force: true });
    return undefined;
  }
}
