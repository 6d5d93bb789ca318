import { spawnSync } from 'node:child_process';
import { cpSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { parseArgs } from 'node:util';
import ts from 'typescript';
import { ensureNpm } from './lib/packages.mjs';
import { main, ROOT, say } from './lib/shell.mjs';

/**
 * `npm run faults -- [--seed N] [--count N]`: makes faults of one token each in a copy of core's loads, checks, keys and
 * lineage, and runs core's tests over each. Those that no test finds are named; the last line says how many made a test fail; fewer than the least share
 * ends with 1.
 */
const FOLDERS = ['load', 'check', 'keys', 'compile', 'catalog', 'columns'];
const LEAST_SHARE = 0.85;
/** Tests that do not end by then have failed: a fault can make a loop endless. */
const PATIENCE_MILLISECONDS = 180_000;
const COPY = path.join(ROOT, '.build/faults');

/** What stands for a token of each kind. */
const SWAPS = new Map(
  Object.entries({
    '===': '!==',
    '!==': '===',
    '&&': '||',
    '||': '&&',
    '??': '&&',
    '<': '>=',
    '>': '<=',
    '<=': '>',
    '>=': '<',
    '+': '-',
    '-': '+',
    true: 'false',
    false: 'true',
    '!': '',
    some: 'every',
    every: 'some',
  }),
);
/** Words of SQL in texts, and what stands for them. */
const SQL = new Map(
  Object.entries({
    and: 'or',
    or: 'and',
    not: '',
    is: 'is not',
    asc: 'desc',
    desc: 'asc',
    'left join': 'join',
    min: 'max',
    max: 'min',
    least: 'greatest',
    greatest: 'least',
    exists: 'not exists',
    distinct: '',
    where: 'where not',
    lead: 'lag',
    lag: 'lead',
    coalesce: 'nullif',
    union: 'except',
    all: '',
  }),
);

/** Texts that are read by the database, and not by people. */
const LOOKS_LIKE_SQL =
  /\b(select|from|where|case when|update|insert|delete|create|alter|join|coalesce|over \(|order by|group by)\b|::| = | <> | is (not )?null/;

/** A repeatable source of whole numbers below a bound (a linear congruence). */
function random(seed) {
  let state = (Math.imul(seed, 2654435761) + 12345) >>> 0;
  return (below) => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

/** Whether a node only says types, or where something comes from. */
const isSaid = (node) =>
  ts.isTypeNode(node) ||
  ts.isImportDeclaration(node) ||
  ts.isExportDeclaration(node) ||
  ts.isInterfaceDeclaration(node) ||
  ts.isTypeAliasDeclaration(node) ||
  ts.isTypeParameterDeclaration(node);

/** All faults that one file can have: an offset, what is there, and what stands for it. */
function faultsOf(file) {
  const text = readFileSync(file, 'utf8');
  const source = ts.createSourceFile(file, text, ts.ScriptTarget.ES2022, true);
  const found = [];
  const visit = (node) => {
    if (isSaid(node)) return;
    if (
      ts.isStringLiteralLike(node) ||
      ts.isTemplateHead(node) ||
      ts.isTemplateMiddle(node) ||
      ts.isTemplateTail(node)
    ) {
      const start = node.getStart(source);
      const whole = ts.isStringLiteralLike(node) ? node : ts.findAncestor(node, ts.isTemplateExpression);
      if (!LOOKS_LIKE_SQL.test(whole.getText(source))) return;
      for (const match of text.slice(start, node.end).matchAll(/\b(left join|[a-z]+)\b/g))
        if (SQL.has(match[0]) && /\s/.test(text.slice(start, node.end)))
          found.push({ at: start + match.index, there: match[0], instead: SQL.get(match[0]) });
      return;
    }
    if (ts.isNumericLiteral(node))
      found.push({ at: node.getStart(source), there: node.text, instead: String(Number(node.text) + 1) });
    else if (node.getChildCount(source) === 0) {
      const there = node.getText(source);
      // An assertion that something is there is nothing at run time.
      const isAssertion = there === '!' && ts.isNonNullExpression(node.parent);
      if (SWAPS.has(there) && !isAssertion) found.push({ at: node.getStart(source), there, instead: SWAPS.get(there) });
    }
    for (const child of node.getChildren(source)) visit(child);
  };
  visit(source);
  return found.map((f) => ({ ...f, file, text }));
}

const testsOf = (file) =>
  spawnSync(
    process.execPath,
    [
      '--experimental-vm-modules',
      '--no-warnings',
      path.join(ROOT, 'node_modules/jest/bin/jest.js'),
      '--config',
      path.join(COPY, 'core/jest.config.mjs'),
      '--ci',
      '--bail',
      '--silent',
      '--findRelatedTests',
      file,
    ],
    { cwd: path.join(COPY, 'core'), encoding: 'utf8', timeout: PATIENCE_MILLISECONDS, killSignal: 'SIGKILL' },
  );

const { values } = parseArgs({ options: { seed: { type: 'string' }, count: { type: 'string' } } });

await main(async () => {
  await ensureNpm();
  const seed = Number(values.seed ?? 1);
  const count = Number(values.count ?? 200);
  rmSync(COPY, { recursive: true, force: true });
  mkdirSync(COPY, { recursive: true });
  cpSync(path.join(ROOT, '.swcrc'), path.join(COPY, '.swcrc'));
  cpSync(path.join(ROOT, 'core'), path.join(COPY, 'core'), {
    recursive: true,
    filter: (f) => !/\/(dist|node_modules)$/.test(f),
  });
  const files = FOLDERS.flatMap((folder) =>
    readdirSync(path.join(COPY, 'core/src', folder), { recursive: true })
      .filter((f) => f.endsWith('.ts') && !f.endsWith('.test.ts') && !f.endsWith('testing.ts') && f !== 'postgresql.ts')
      .map((f) => path.join(COPY, 'core/src', folder, f)),
  );
  const all = files.flatMap(faultsOf);
  const next = random(seed);
  let found = 0;
  for (let n = 1; n <= count; n++) {
    const { file, text, at, there, instead } = all.splice(next(all.length), 1)[0];
    writeFileSync(file, text.slice(0, at) + instead + text.slice(at + there.length));
    const { status } = testsOf(file);
    writeFileSync(file, text);
    const place = `${path.relative(path.join(COPY, 'core/src'), file)}:${text.slice(0, at).split('\n').length}`;
    if (status !== 0) found++;
    else say(`no test fails: ${place}: ${there} → ${instead || 'nothing'}`);
    if (n % 10 === 0) say(`${n} of ${count}: ${found} made a test fail`);
  }
  rmSync(COPY, { recursive: true, force: true });
  say(
    `faults: ${count} of ${all.length + count} possible, seed ${seed}, ${found} made a test fail (${((found / count) * 100).toFixed(1)} %)`,
  );
  process.exit(found / count >= LEAST_SHARE ? 0 : 1);
});
