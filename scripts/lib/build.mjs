import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { ROOT, run, say } from './shell.mjs';

const PARTS = [
  { name: 'core', inputs: ['core/src', 'core/package.json', '.swcrc'] },
  { name: 'cli', inputs: ['cli/src', 'api/src', 'cli/package.json', '.swcrc'] },
  { name: 'demo', inputs: ['demo/src', 'demo/package.json', '.swcrc'] },
  { name: 'server', inputs: ['server/src', 'api/src', 'server/package.json', '.swcrc', 'scripts/answers.mjs'] },
  {
    name: 'web',
    inputs: [
      'web/src',
      'api/src',
      'web/index.html',
      'web/vite.config.ts',
      'web/package.json',
      'core/src',
      'scripts/budget.mjs',
      'package-lock.json',
    ],
  },
];

function files(place) {
  const full = path.join(ROOT, place);
  if (!existsSync(full)) return [];
  return readdirSync(full, { withFileTypes: true, recursive: true })
    .filter((e) => e.isFile())
    .map((e) => path.join(e.parentPath ?? e.path, e.name))
    .sort();
}

function digest(inputs) {
  const hash = createHash('sha256');
  for (const input of inputs) {
    const full = path.join(ROOT, input);
    for (const file of input.includes('.') ? [full] : files(input)) {
      if (/\.test\.tsx?$/.test(file) || !existsSync(file)) continue;
      hash.update(path.relative(ROOT, file)).update(readFileSync(file));
    }
  }
  return hash.digest('hex');
}

/** Builds the parts whose sources changed since they were last built. */
export async function build(names = PARTS.map((p) => p.name)) {
  mkdirSync(path.join(ROOT, '.build'), { recursive: true });
  for (const { name, inputs } of PARTS.filter((p) => names.includes(p.name))) {
    const mark = path.join(ROOT, '.build', name);
    const now = digest(inputs);
    if (existsSync(mark) && readFileSync(mark, 'utf8') === now && existsSync(path.join(ROOT, name, 'dist'))) continue;
    say(`Building ${name} ...`);
    await run('npm', ['run', 'build', '-w', name, '--silent']);
    writeFileSync(mark, now);
  }
}
