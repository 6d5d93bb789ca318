#!/usr/bin/env node
import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const built = new URL('../cli/dist/main.js', import.meta.url);
if (!existsSync(fileURLToPath(built))) {
  process.stderr.write('ouvrage is not built yet. Run "npm ci" and "npm run build" in its folder first.\n');
  process.exit(2);
}
// Whoever reads what it writes may have enough of it: `ouvrage plan | head`.
process.stdout.on('error', (error) => {
  if (error.code !== 'EPIPE') throw error;
  process.exit();
});
const { main } = await import(built.href);
process.exitCode = await main(process.argv.slice(2), {
  out: (text) => process.stdout.write(text),
  err: (text) => process.stderr.write(text),
  env: process.env,
});
