import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { freePort, isRoot, Plain, ROOT } from './shell.mjs';
import { counted, shown } from './tests.mjs';

/**
 * Plays journeys in the browser against an application of their own, that is started for the first time.
 * @param config of Playwright
 * @param past days of its past that the demo plays, or none
 * @param ready waits until the journeys can begin, given the application's address
 * @returns how many passed and failed
 */
export async function journeys({ config, past, ready = () => undefined }) {
  const data = mkdtempSync(path.join(isRoot ? '/var/tmp' : os.tmpdir(), 'ouvrage-e2e-'));
  const port = await freePort(4300);
  const address = `http://127.0.0.1:${port}`;
  const report = path.join(data, 'report.json');
  const app = spawn(
    process.execPath,
    ['scripts/start.mjs', '--data', data, '--port', String(port), '--past', String(past)],
    { cwd: ROOT, stdio: ['ignore', 'pipe', 'inherit'] },
  );
  try {
    await new Promise((resolve, reject) => {
      app.stdout.on('data', (d) => {
        process.stdout.write(d);
        if (/Ouvrage is ready/.test(d)) resolve();
      });
      app.once('exit', (code) => reject(new Plain(`the application ended with ${code}`)));
    });
    await ready(address);
    const code = await shown(path.join(ROOT, 'node_modules/.bin/playwright'), ['test', '--config', config], {
      env: { ...process.env, OUVRAGE_ADDRESS: address, PLAYWRIGHT_JSON_OUTPUT_NAME: report },
    });
    if (!existsSync(report)) return { passed: 0, failed: 1 };
    const { stats } = JSON.parse(readFileSync(report, 'utf8'));
    return counted(stats.expected, stats.unexpected + stats.flaky, code);
  } finally {
    if (app.exitCode === null) {
      app.kill('SIGTERM');
      await new Promise((resolve) => app.once('exit', resolve));
    }
    rmSync(data, { recursive: true, force: true });
  }
}

const LOOK_MILLISECONDS = 3000;

/** Waits until the demo's past has been played. @throws Plain where it stops */
export async function pastPlayed(address) {
  const signedIn = await fetch(`${address}/api/sign-in`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ name: 'vera', password: 'saltmere' }),
  });
  const cookie = signedIn.headers.getSetCookie()[0].split(';')[0];
  for (;;) {
    const { past } = await (await fetch(`${address}/api/harbour`, { headers: { cookie } })).json();
    if (past === null) return;
    if (past.error !== null) throw new Plain(`the past stopped after ${past.played} days: ${past.error}`);
    await new Promise((resolve) => setTimeout(resolve, LOOK_MILLISECONDS));
  }
}
