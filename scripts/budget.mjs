import { readFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { ROOT } from './lib/shell.mjs';

/**
 * What the browser loads until the sign-in shows: the scripts and styles that the page names, compressed as a server
 * without Brotli would send them; fonts apart. Ends with 1 above the budget.
 */
const BUDGET_BYTES = 150_000;
const DIST = path.join(ROOT, 'web/dist');

const page = readFileSync(path.join(DIST, 'index.html'), 'utf8');
const files = [...new Set(page.match(/\/assets\/[^"]+\.(?:js|css)/g) ?? [])];
const sizes = files.map((file) => [file, gzipSync(readFileSync(path.join(DIST, file)), { level: 6 }).length]);
const total = sizes.reduce((sum, [, bytes]) => sum + bytes, 0);
if (files.length === 0 || total > BUDGET_BYTES) {
  for (const [file, bytes] of sizes) process.stderr.write(`${bytes} ${file}\n`);
  process.stderr.write(`first load: ${total} bytes compressed, of at most ${BUDGET_BYTES}\n`);
  process.exit(1);
}
process.stdout.write(`first load: ${total} bytes compressed, of at most ${BUDGET_BYTES}\n`);
