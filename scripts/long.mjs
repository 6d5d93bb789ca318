import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { parseArgs } from 'node:util';
import { journeys, pastPlayed } from './lib/application.mjs';
import { build } from './lib/build.mjs';
import { ensureDebian, ensureNpm } from './lib/packages.mjs';
import { main, Plain, ROOT, say } from './lib/shell.mjs';
import { jest, withCluster } from './lib/tests.mjs';

/**
 * `npm run long -- NAME [--seed N]`: proofs at their full size, of which `npm test` plays a part. A proof is played in
 * portions and goes on where it was stopped; the last line says cases, seed and failures, and any failure ends with 1.
 */
const PROOFS = {
  worlds: {
    of: 'worlds of each policy',
    files: ['policies.test', 'sequences.test'],
    size: 3000,
    portion: 500,
    variable: 'OUVRAGE_WORLDS',
  },
  contracts: {
    of: 'sequences of changed contracts of each policy',
    files: ['policies/changing'],
    size: 2000,
    portion: 400,
    variable: 'OUVRAGE_WORLDS',
  },
  'over-time': {
    of: 'journeys over the demo’s past',
    journeys: { config: 'e2e/over-time.config.ts', past: 30, ready: pastPlayed },
    size: 1,
    portion: 1,
  },
  past: {
    of: 'days of the demo’s past',
    files: ['src/past.test'],
    size: 30,
    portion: 30,
    variable: 'OUVRAGE_PAST_DAYS',
  },
  pairs: {
    of: 'pairs of tables compared',
    files: ['look/row-comparison'],
    size: 500,
    portion: 500,
    variable: 'OUVRAGE_PAIRS',
  },
  fuzz: { of: 'made-up requests', files: ['fuzz.test'], size: 25_000, portion: 5000, variable: 'OUVRAGE_FUZZ' },
  cuts: {
    of: 'loads of each policy cut off',
    files: ['policies/kill.test'],
    size: 100,
    portion: 20,
    variable: 'OUVRAGE_KILLS',
  },
  restores: {
    of: 'random worlds in which production goes back by its copies',
    files: ['release/restore.test'],
    size: 100,
    portion: 20,
    variable: 'OUVRAGE_RESTORES',
  },
  'restore-kills': {
    of: 'times the server is killed while production goes back by its copies',
    files: ['release/restore-kills'],
    size: 100,
    portion: 20,
    variable: 'OUVRAGE_KILLS',
  },
  kills: {
    of: 'times the server is killed over a table of each policy',
    files: ['crash.test'],
    size: 100,
    portion: 10,
    variable: 'OUVRAGE_KILLS',
  },
  power: {
    of: 'times the server is killed with everything under way, PostgreSQL stopped a fifth as often',
    files: ['crash-under-way'],
    size: 100,
    portion: 20,
    variable: 'OUVRAGE_KILLS',
  },
  lineage: {
    of: 'random queries, a fifth of them played',
    files: ['lineage/generated'],
    size: 9000,
    portion: 1500,
    variable: 'OUVRAGE_QUERIES',
    more: { OUVRAGE_PLAYED: '300' },
  },
  month: { of: 'days of the stand-in’s clock', files: ['month.test'], size: 30, portion: 30, variable: 'OUVRAGE_DAYS' },
};

const { values, positionals } = parseArgs({ options: { seed: { type: 'string' } }, allowPositionals: true });

await main(async () => {
  const [name] = positionals;
  const proof = Object.hasOwn(PROOFS, name ?? '') ? PROOFS[name] : undefined;
  if (!proof)
    throw new Plain(`npm run long -- NAME [--seed N], where NAME is one of ${Object.keys(PROOFS).join(', ')}`);
  const seed = Number(values.seed ?? 1);
  const mark = path.join(ROOT, '.build', `long-${name}-${seed}.json`);
  let { played, failed } = existsSync(mark) ? JSON.parse(readFileSync(mark, 'utf8')) : { played: 0, failed: 0 };
  await ensureDebian(['postgresql', 'git', ...(proof.journeys ? ['chromium'] : [])]);
  await ensureNpm();
  await build(proof.journeys ? undefined : ['core', 'demo', 'server']);
  mkdirSync(path.dirname(mark), { recursive: true });
  while (played < proof.size) {
    const env = {
      [proof.variable]: String(Math.min(proof.portion, proof.size - played)),
      OUVRAGE_SEED: String(seed * 1000 + played / proof.portion),
      OUVRAGE_DEMO: '1',
      ...proof.more,
    };
    const result = proof.journeys
      ? await journeys(proof.journeys)
      : await withCluster(5760, (data) => jest('server', { ...env, OUVRAGE_DATA: data }, proof.files));
    played += Math.min(proof.portion, proof.size - played);
    failed += result.failed;
    writeFileSync(mark, JSON.stringify({ played, failed }));
    say(`${name}: ${played} of ${proof.size} ${proof.of}, seed ${seed}, ${failed} failed`);
  }
  say(`${name}: ${played} ${proof.of}, seed ${seed}, ${failed} failed`);
  process.exit(failed === 0 ? 0 : 1);
});
