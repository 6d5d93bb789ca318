import { createWriteStream, mkdirSync, readFileSync, renameSync, statSync } from 'node:fs';
import path from 'node:path';
import { pipeline } from 'node:stream/promises';
import { fileURLToPath } from 'node:url';

/**
 * A CSV of 1 GB through the drop folder: rows a second, and how much memory the server takes for it.
 * `node bench/delivery.mjs` beside a running `npm start`; it leaves its rows in landing.berth_rate, so
 * `npm run reset` afterwards.
 */
const ROWS = 1_000_000;
const data = path.resolve(path.dirname(fileURLToPath(import.meta.url)), '../.data');
const { address, pid: starter } = JSON.parse(readFileSync(path.join(data, 'running.json'), 'utf8'));
const file = `berth_rates_2031-${String(1 + (Date.now() % 12)).padStart(2, '0')}-01.csv`;

const made = path.join(data, file);
await pipeline(function* () {
  yield 'berth_code,rate,charged\n';
  const note = 'by the day, or part of it, "as agreed"; '.repeat(25).replaceAll('"', '""');
  for (let i = 0; i < ROWS; i += 100)
    yield Array.from({ length: 100 }, (_, j) => `B-${i + j},${((i + j) % 900) + 1}.25,"${note}"\n`).join('');
}, createWriteStream(made));
const megabytes = statSync(made).size / 2 ** 20;

const answer = await fetch(`${address}/api/sign-in`, {
  method: 'POST',
  headers: { 'content-type': 'application/json' },
  body: JSON.stringify({ name: 'mira', password: 'saltmere' }),
});
const cookie = answer.headers.get('set-cookie').split(';')[0];
const deliveries = async () => (await (await fetch(`${address}/api/deliveries`, { headers: { cookie } })).json()).files;

/** The memory of the server's process in megabytes: the child of the one that started it. */
const server = Number(readFileSync(`/proc/${starter}/task/${starter}/children`, 'utf8').trim().split(' ').at(-1));
const resident = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${server}/status`, 'utf8'))[1]) / 1024;

const before = resident();
mkdirSync(path.join(data, 'drop'), { recursive: true });
renameSync(made, path.join(data, 'drop', file));
const started = performance.now();
let greatest = before;
for (;;) {
  await new Promise((resolve) => setTimeout(resolve, 500));
  greatest = Math.max(greatest, resident());
  const found = (await deliveries()).find((f) => f.file === file && !['loading', 'waiting'].includes(f.state));
  if (!found) continue;
  const seconds = (performance.now() - started) / 1000;
  console.log(
    `${file}: ${found.state}, ${found.rows} rows, ${megabytes.toFixed(0)} MB in ${seconds.toFixed(0)} s (the wait until it is taken included)`,
  );
  console.log(`the server's memory: ${before.toFixed(0)} MB before, ${greatest.toFixed(0)} MB at most`);
  break;
}
