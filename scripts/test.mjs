import { spawn, spawnSync } from 'node:child_process';
import path from 'node:path';
import { build } from './lib/build.mjs';
import { ensureDebian, ensureNpm } from './lib/packages.mjs';
import { journeys } from './lib/application.mjs';
import { main, Plain, ROOT, say } from './lib/shell.mjs';
import { counted, jest, withCluster } from './lib/tests.mjs';

/**
 * `npm test`, or one part of it: style, core, server, corpus, attacks, e2e. The last line is the sum over all
 * runners; a runner that ran nothing counts as a failure.
 */
const PARTS = ['style', 'core', 'server', 'corpus', 'attacks', 'e2e'];
const asked = process.argv[2];
if (asked && !PARTS.includes(asked)) throw new Error(`no such part: ${asked}; there are ${PARTS.join(', ')}`);
const parts = asked ? [asked] : PARTS;

/** Runs a program and keeps what it prints, for when it has ended. */
function heard(command, args) {
  return new Promise((resolve) => {
    const child = spawn(command, args, { cwd: ROOT, stdio: ['ignore', 'pipe', 'pipe'] });
    let output = '';
    child.stdout.on('data', (d) => (output += d));
    child.stderr.on('data', (d) => (output += d));
    child.on('error', (error) => resolve({ code: 1, output: String(error) }));
    child.on('close', (code) => resolve({ code: code ?? 1, output }));
  });
}

const bin = (name) => path.join(ROOT, 'node_modules/.bin', name);

/** Style checks count one each. */
async function style() {
  const checks = [
    ['formatting', bin('prettier'), ['--check', '--log-level', 'warn', '.']],
    ['lint', bin('eslint'), ['--max-warnings', '0', '.']],
    [
      'boundaries',
      bin('depcruise'),
      ['api/src', 'core/src', 'server/src', 'web/src', 'demo/src', 'cli/src', '--config', '.dependency-cruiser.cjs'],
    ],
    [
      'rings of folders',
      bin('depcruise'),
      [
        'api/src',
        'core/src',
        'server/src',
        'web/src',
        'demo/src',
        'cli/src',
        '--config',
        '.dependency-cruiser-folders.cjs',
      ],
    ],
    ['unused code', bin('knip'), ['--no-progress']],
    ...['api', 'cli', 'core', 'demo', 'server', 'web', 'e2e'].map((w) => [
      `types of ${w}`,
      bin('tsc'),
      ['--noEmit', '-p', w],
    ]),
  ];
  const result = { passed: 0, failed: 0 };
  const lane = async () => {
    for (let check = checks.shift(); check; check = checks.shift()) {
      const [name, command, args] = check;
      const { code, output } = await heard(command, args);
      if (output.trim()) say(output.trimEnd());
      say(`${code === 0 ? 'ok' : 'FAILED'}: ${name}`);
      result[code === 0 ? 'passed' : 'failed']++;
    }
  };
  say((await heard(process.execPath, ['scripts/share.mjs'])).output.trimEnd());
  // Each check keeps one core busy; beside other tests there is one to have.
  await Promise.all(parts.length > 1 ? [lane()] : [lane(), lane()]);
  return result;
}

/** What is random plays another part at each commit: its hash is the seed. */
const head = spawnSync('git', ['rev-parse', 'HEAD'], { cwd: ROOT, encoding: 'utf8' }).stdout ?? '';
const SEED = process.env.OUVRAGE_SEED ?? String(Number.parseInt(head.slice(0, 6) || '1', 16));
const SIZES = { OUVRAGE_SEED: SEED, OUVRAGE_WORLDS: '40', OUVRAGE_FUZZ: '5000', OUVRAGE_KILLS: '3' };

/** The tests of the server in two halves, each with a cluster of its own, so that two cores have work. */
const HALVES = [1, 2];
const serverHalf = (half) =>
  withCluster(5620 + 20 * half, (data) =>
    jest('server', { ...SIZES, OUVRAGE_DATA: data, OUVRAGE_DEMO: '1' }, [`--shard=${half}/${HALVES.length}`]),
  );

/** Attacks count one each; they start an application of their own. */
async function attacks() {
  const { code, output } = await heard(process.execPath, ['scripts/attacks.mjs']);
  say(output.trimEnd());
  const [, passed = '0', failed = '0'] = /(\d+) passed, (\d+) failed\s*$/.exec(output) ?? [];
  return counted(Number(passed), Number(failed), code);
}

/** PostgreSQL's own queries, of which core may say nothing wrong, count as one; where they cannot be had, as none. */
async function corpus() {
  const { code, output } = await heard(process.execPath, ['scripts/corpus.mjs']);
  say(output.trimEnd());
  return /^corpus: skipped/m.test(output)
    ? { passed: 0, failed: 0 }
    : { passed: code === 0 ? 1 : 0, failed: code === 0 ? 0 : 1 };
}

await main(async () => {
  await ensureDebian(['postgresql', 'git', ...(parts.includes('e2e') ? ['chromium'] : [])]);
  await ensureNpm();
  await build(parts.includes('e2e') ? undefined : ['core', 'cli', 'demo', 'server']);
  const runners = {
    style,
    core: async () =>
      sum([await jest('core', {}, ['--coverage']), await jest('demo'), await jest('cli'), await jest('web')]),
    ...Object.fromEntries(HALVES.map((half) => [`server ${half}`, () => serverHalf(half)])),
    corpus,
    attacks,
    e2e: () => journeys({ config: 'e2e/playwright.config.ts', past: 'none' }),
  };
  say(`The seed of what is random: ${SEED}`);
  const results = [];
  const ended = async (part) => {
    const started = Date.now();
    const result = await runners[part]().catch((error) => {
      say(error instanceof Plain ? error.message : error.stack);
      return { passed: 0, failed: 1 };
    });
    say(`${part}: ${result.passed} passed, ${result.failed} failed, ${((Date.now() - started) / 1000).toFixed(0)} s`);
    return result;
  };
  const inOrder = async (some) => {
    for (const part of some) {
      say(`\n== ${part}`);
      results.push(await ended(part));
    }
  };
  // Two lanes of tests without a browser take one core each; a browser takes what it can get.
  const lanes = [
    ['style', 'server 2'],
    ['core', 'server 1'],
  ];
  await Promise.all(lanes.map((lane) => inOrder(lane.filter((part) => parts.includes(part.split(' ')[0])))));
  await inOrder(parts.filter((part) => ['corpus', 'attacks', 'e2e'].includes(part)));
  const { passed, failed } = sum(results);
  say(`${passed} passed, ${failed} failed`);
  process.exit(failed === 0 && passed > 0 ? 0 : 1);
});

function sum(results) {
  return { passed: results.reduce((n, r) => n + r.passed, 0), failed: results.reduce((n, r) => n + r.failed, 0) };
}
