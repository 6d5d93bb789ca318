import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { provision, startCluster, stopCluster } from './cluster.mjs';
import { isRoot, ROOT } from './shell.mjs';

/** Runs a program and shows what it prints. @returns its exit code */
export function shown(command, args, options = {}) {
  return new Promise((resolve) => {
    const child = spawn(command, args, { cwd: ROOT, stdio: ['ignore', 'inherit', 'inherit'], ...options });
    child.on('error', () => resolve(1));
    child.on('close', (code) => resolve(code ?? 1));
  });
}

/** Runs Jest over a workspace. @returns how many tests passed and failed */
export async function jest(workspace, env = {}, options = []) {
  const report = path.join(mkdtempSync(path.join(os.tmpdir(), 'ouvrage-report-')), 'report.json');
  const code = await shown(
    process.execPath,
    [
      '--experimental-vm-modules',
      '--no-warnings',
      path.join(ROOT, 'node_modules/jest/bin/jest.js'),
      '--config',
      `${workspace}/jest.config.mjs`,
      '--json',
      `--outputFile=${report}`,
      '--reporters=default',
      '--forceExit',
      ...options,
    ],
    { env: { ...process.env, ...env } },
  );
  if (!existsSync(report)) return { passed: 0, failed: 1 };
  const { numPassedTests, numFailedTests, numFailedTestSuites } = JSON.parse(readFileSync(report, 'utf8'));
  return counted(numPassedTests, Math.max(numFailedTests, numFailedTestSuites), code);
}

/** A runner that ran nothing, or ended badly without a failed test, has failed. */
export function counted(passed, failed, code) {
  if (passed + failed === 0 || (failed === 0 && code !== 0)) return { passed, failed: failed + 1 };
  return { passed, failed };
}

/** A data folder that PostgreSQL's user can reach, with a cluster of its own, gone afterwards. */
export async function withCluster(wantedPort, body) {
  const base = isRoot ? '/var/tmp' : os.tmpdir();
  const data = mkdtempSync(path.join(base, 'ouvrage-test-'));
  let config;
  try {
    config = await startCluster(data, { wantedPort });
    await provision(data, config);
    return await body(data);
  } finally {
    if (config) {
      await stopCluster(config);
      rmSync(config.clusterFolder, { recursive: true, force: true });
    }
    rmSync(data, { recursive: true, force: true });
  }
}
