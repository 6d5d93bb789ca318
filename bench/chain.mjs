import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';

/**
 * A chain of 200 small tables in eight levels, 100 to 10,000 rows each with a key and three checks, built by a
 * run of the application and by `psql` with the statements of that run: `node bench/chain.mjs` beside a
 * running `npm start` with the demo. As many sessions of `psql` are kept open as the run has connections, and
 * each is given the next table whose inputs are there. Alternating runs, medians.
 */
const LEVELS = 8;
const WIDE = 25;
const RUNS = Number(process.env.RUNS ?? 5);
const ADDRESS = process.env.OUVRAGE_ADDRESS ?? 'http://127.0.0.1:4100';
const data = path.resolve(path.dirname(fileURLToPath(import.meta.url)), '../.data');
const { postgresPort: port, passwords } = JSON.parse(readFileSync(path.join(data, 'config.json'), 'utf8'));

let session = {};
async function ask(method, where, body) {
  const answer = await fetch(`${ADDRESS}/api/${where}`, {
    method,
    headers: { 'content-type': 'application/json', ...session },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  });
  const found = await answer.json();
  if (!answer.ok) throw new Error(`${method} ${where}: ${JSON.stringify(found)}`);
  return { found, answer };
}
const { found: signedIn, answer } = await ask('POST', 'sign-in', { name: 'mira', password: 'saltmere' });
session = { cookie: answer.headers.get('set-cookie').split(';')[0], 'x-csrf-token': signedIn.csrf };

const { found: workspace } = await ask('POST', 'workspaces', { name: `Chain ${Date.now()}` });
const name = (level, i) => `chain_${level}_${i}`;
const tables = [];
for (let level = 0; level < LEVELS; level++)
  for (let i = 0; i < WIDE; i++) {
    const rows = Math.round(100 * 100 ** (i / (WIDE - 1)));
    const from =
      level === 0
        ? `select i as id, 'code ' || i % 50 as code, (i % 1000)::numeric(12,2) as amount\nfrom generate_series(1, ${rows}) as i`
        : `select a.id, a.code, coalesce(a.amount + b.amount, a.amount)::numeric(12,2) as amount\nfrom core.${name(level - 1, i)} a left join core.${name(level - 1, (i + 1) % WIDE)} b on b.id = a.id`;
    const text = `create table core.${name(level, i)} (\n  id integer primary key,\n  code text not null,\n  amount numeric(12,2) check (amount >= 0)\n);\n\n${from};\n`;
    tables.push(`core.${name(level, i)}`);
    await ask('PUT', `workspaces/${workspace.slug}/drafts`, { path: `core/${name(level, i)}.sql`, text, version: 0 });
  }

async function build() {
  const { found: run } = await ask('POST', `workspaces/${workspace.slug}/runs`, {
    tables,
    upstream: false,
    downstream: false,
  });
  for (;;) {
    // The list is asked, not the run with its 200 steps: who watches shall not slow it down.
    const { found: runs } = await ask('GET', 'runs?limit=20');
    const found = runs.find((r) => r.id === run.id);
    if (found.state === 'succeeded') return (await ask('GET', `runs/${run.id}`)).found;
    if (!['queued', 'running'].includes(found.state)) throw new Error(`the run ended as ${found.state}`);
    await new Promise((resolve) => setTimeout(resolve, 250));
  }
}
const took = (run) => new Date(run.finishedAt) - new Date(run.startedAt);

/** A session of psql that runs texts one after the other. */
function psql() {
  const child = spawn(
    'psql',
    [
      '-qAtX',
      '-v',
      'ON_ERROR_STOP=1',
      '-h',
      '127.0.0.1',
      '-p',
      String(port),
      '-U',
      'ouvrage_workspace',
      '-d',
      'warehouse',
    ],
    {
      env: { ...process.env, PGPASSWORD: passwords.workspace, PGOPTIONS: '-c client_min_messages=warning' },
      stdio: ['pipe', 'pipe', 'inherit'],
    },
  );
  let done = () => undefined;
  let seen = '';
  child.once('exit', (code) => {
    if (code) throw new Error(`psql ended with ${code}`);
  });
  child.stdout.on('data', (d) => {
    seen = (seen + d).slice(-20);
    if (seen.includes('\nwritten\n') || seen.startsWith('written\n')) {
      seen = '';
      done();
    }
  });
  return {
    run: (text) =>
      new Promise((resolve) => {
        done = resolve;
        child.stdin.write(`${text}\n\\echo\n\\echo written\n`);
      }),
    end: () => child.stdin.end(),
  };
}

/** The statements of a run through psql, each table when those that it waits for are there. @returns milliseconds */
async function byPsql(steps, sessions) {
  const started = performance.now();
  const waiting = new Map(steps.map((s) => [s.table, s]));
  const ended = new Set();
  const free = [...sessions];
  const active = new Set();
  while (waiting.size || active.size) {
    for (const [table, step] of waiting) {
      if (free.length === 0) break;
      if (step.waitsFor.some((w) => waiting.has(w) || (!ended.has(w) && tables.includes(w)))) continue;
      waiting.delete(table);
      const one = free.pop();
      const work = one.run(step.text).then(() => {
        ended.add(table);
        free.push(one);
        active.delete(work);
      });
      active.add(work);
    }
    await Promise.race(active);
  }
  return performance.now() - started;
}

await build();
const last = await build();
const steps = [];
for (const step of last.steps) {
  const { found } = await ask('GET', `runs/${last.id}/steps/${step.id}`);
  steps.push({
    table: step.table,
    waitsFor: step.waitsFor,
    text: ['begin', ...found.statements.map((s) => s.sql), 'commit'].map((s) => `${s};`).join('\n'),
  });
}
const sessions = Array.from({ length: last.parallelism }, psql);
const [ours, theirs] = [[], []];
for (let run = 0; run < RUNS; run++) {
  theirs.push(await byPsql(steps, sessions));
  ours.push(took(await build()));
}
for (const one of sessions) one.end();
const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
const [o, t] = [median(ours), median(theirs)];
console.log(
  `${tables.length} tables, ${last.parallelism} connections: ${o.toFixed(0)} ms, by psql ${t.toFixed(0)} ms, ratio ${median(ours.map((time, i) => time / theirs[i])).toFixed(2)}`,
);
