import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { parseArgs } from 'node:util';
import { freePort, isRoot, main, Plain, ROOT, run, say } from './lib/shell.mjs';

/**
 * `npm run attacks [-- --at COMMIT] [NAME ...]`: plays every file of server/src/attacks against the application, started
 * by its own command, here or as it was at a commit. The last line is `N passed, N failed`.
 */
const { values, positionals } = parseArgs({ options: { at: { type: 'string' } }, allowPositionals: true });
const FOLDER = path.join(ROOT, 'server/src/attacks');
const base = isRoot ? '/var/tmp' : os.tmpdir();

/** Another commit's files in a folder of their own. */
async function checkout(commit) {
  const folder = mkdtempSync(path.join(base, 'ouvrage-at-'));
  await run('git', ['clone', '--quiet', '--no-checkout', ROOT, folder]);
  await run('git', ['checkout', '--quiet', commit], { cwd: folder });
  return folder;
}

/** The application, started; it is started again by who asks for it, where it has ended. */
async function start(root, data) {
  const port = await freePort(4700);
  const child = spawn(process.execPath, ['scripts/start.mjs', '--data', data, '--port', String(port)], {
    cwd: root,
    stdio: ['ignore', 'pipe', 'pipe'],
    // Earlier commits know no past, and no option for it.
    env: { ...process.env, OUVRAGE_PAST: 'none' },
  });
  let said = '';
  child.stderr.on('data', (d) => (said = (said + d).slice(-4000)));
  await new Promise((resolve, reject) => {
    child.stdout.on('data', (d) => {
      said = (said + d).slice(-4000);
      if (/Ouvrage is ready/.test(said)) resolve();
    });
    child.once('exit', (code) => reject(new Plain(`the application ended with ${code}\n${said}`)));
  });
  return { child, address: `http://127.0.0.1:${port}` };
}

async function stop(app) {
  if (app.child.exitCode !== null || app.child.signalCode !== null) return;
  const gone = new Promise((resolve) => app.child.once('exit', () => resolve(true)));
  app.child.kill('SIGTERM');
  if (!(await Promise.race([gone, new Promise((resolve) => setTimeout(() => resolve(false), 40_000))])))
    app.child.kill('SIGKILL');
}

await main(async () => {
  const { App, Broken } = await import(pathToFileURL(path.join(FOLDER, 'app.mjs')));
  const names = readdirSync(FOLDER)
    .filter((f) => f.endsWith('.mjs') && f !== 'app.mjs')
    .map((f) => f.slice(0, -4))
    .filter((name) => positionals.length === 0 || positionals.includes(name))
    .sort();
  const root = values.at === undefined ? ROOT : await checkout(values.at);
  const folders = [];
  /** A folder of its own: what an attack that got through has left behind is nothing of the next one's. */
  const begin = () => {
    folders.push(mkdtempSync(path.join(base, 'ouvrage-attacks-')));
    return start(root, folders.at(-1));
  };
  let started;
  let [passed, failed] = [0, 0];
  try {
    started = await begin();
    for (const name of names) {
      const { title, attack } = await import(pathToFileURL(path.join(FOLDER, `${name}.mjs`)));
      started ??= await begin();
      const app = new App(started.address, folders.at(-1));
      const began = performance.now();
      const outcome = await attack(app).then(
        () => 'held',
        (error) => `BROKEN: ${error instanceof Broken ? error.message : (error.stack ?? error)}`,
      );
      if (outcome === 'held') passed++;
      else {
        failed++;
        await stop(started);
        started = undefined;
      }
      say(`${name.padEnd(18)} ${title}: ${outcome} (${((performance.now() - began) / 1000).toFixed(1)} s)`);
    }
  } finally {
    if (started) await stop(started);
    if (root !== ROOT && existsSync(root)) rmSync(root, { recursive: true, force: true });
    for (const data of folders) rmSync(data, { recursive: true, force: true });
  }
  say(`${passed} passed, ${failed} failed`);
  process.exit(failed === 0 && passed > 0 ? 0 : 1);
});
