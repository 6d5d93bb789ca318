import { spawnSync } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { parseArgs } from 'node:util';
import { build } from '../scripts/lib/build.mjs';
import { main, say } from '../scripts/lib/shell.mjs';

/**
 * `node bench/watch.mjs [--tables N] [--faulty N] [--seed S]`: how often a watch tells falsely, of so many simulated
 * tables of 365 days and 39 measures each, and how often it finds a fault at the first load, by kind and noise. Days
 * count from the 30th value. Stepped tables change for good on one day: what is told then is no falsehood. Last, what
 * measuring costs, as a share of a load of 1,000,000 rows: by `bench/loads`, beside a running `npm start`.
 */
const { values } = parseArgs({
  options: { tables: { type: 'string' }, faulty: { type: 'string' }, seed: { type: 'string' } },
});
const tables = Number(values.tables ?? 40);
const faulty = Number(values.faulty ?? 40);
const DAYS = 365;
const NOISES = [0.02, 0.05, 0.1];

await main(async () => {
  await build(['core']);
  const { watched } = await import('../core/dist/watch/watched-harness.js');
  const { FAULTS, KINDS, measureOf } = await import('../core/dist/watch/simulator-harness.js');
  let seed = Number(values.seed ?? 1);
  say(`seed ${seed}; ${tables} tables a kind and noise, ${faulty} a fault`);
  for (const kind of KINDS)
    for (const noise of NOISES) {
      let [days, told] = [0, 0];
      for (let i = 0; i < tables; i++)
        for (const { judged } of watched({ kind, noise, days: DAYS, seed: seed++ })) {
          days++;
          if (judged.finding) told++;
        }
      const found = FAULTS.map((fault) => {
        let n = 0;
        for (let i = 0; i < faulty; i++) {
          const day = 45 + ((i * 37) % 300);
          let last;
          for (const w of watched({ kind, noise, days: day + 1, seed: seed++, fault: { fault, day } })) last = w;
          if (last.judged.series.find((s) => s.name === measureOf(fault)).verdict === 'outside') n++;
        }
        return `${fault} ${((100 * n) / faulty).toFixed(1)} %`;
      });
      say(
        `${kind}, noise ${100 * noise} %: ${told} told in ${days} days of tables (${((1000 * told) / days).toFixed(2)} in 1,000); found: ${found.join(', ')}`,
      );
    }
  say('the cost of measuring, as a share of the load:');
  for (const policy of ['append', 'merge', 'history']) {
    const bench = fileURLToPath(new URL('loads.mjs', import.meta.url));
    const { status } = spawnSync(process.execPath, [bench, policy], {
      env: { SHARES: '0.1', ...process.env },
      stdio: 'inherit',
    });
    if (status !== 0) throw new Error(`bench/loads ${policy} did not run: start the application first (npm start)`);
  }
});
