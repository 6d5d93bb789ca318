import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { ROOT, say } from './lib/shell.mjs';

/** Prints which share of each workspace's lines are tests. Snapshots, fixtures and blank lines do not count. */
const isTest = (file) =>
  /\.test\.tsx?$|\/testing[^/]*\.tsx?$|\/attacks\/|harness\.ts$|\/models?\.ts$|\/worlds\.ts$|-models\.ts$|\/releasing\.ts$/.test(
    file,
  );
const counted = (text) =>
  text
    .replace(/toMatchInlineSnapshot\(`(?:[^`\\]|\\.)*`\)/g, 'toMatchInlineSnapshot()')
    .split('\n')
    .filter((line) => line.trim() !== '').length;

for (const workspace of ['cli', 'core', 'server', 'web']) {
  const folder = path.join(ROOT, workspace, 'src');
  const lines = { tests: 0, code: 0 };
  for (const entry of readdirSync(folder, { recursive: true })) {
    const file = path.join(folder, entry);
    if (!/\.(tsx?|mjs)$/.test(file) || file.includes('/fixtures/') || file.endsWith('catalog/postgresql.ts')) continue;
    lines[isTest(file) ? 'tests' : 'code'] += counted(readFileSync(file, 'utf8'));
  }
  const { tests, code } = lines;
  say(
    `${workspace}: ${tests} lines of tests, ${code} of code: ${((tests / (tests + code)) * 100).toFixed(1)} % are tests`,
  );
}
