import { existsSync, rmSync } from 'node:fs';
import path from 'node:path';
import readline from 'node:readline/promises';
import { parseArgs } from 'node:util';
import { readConfig, stopCluster } from './lib/cluster.mjs';
import { main, Plain, ROOT, say } from './lib/shell.mjs';

const { values } = parseArgs({ options: { data: { type: 'string' }, yes: { type: 'boolean' } } });
const data = path.resolve(ROOT, values.data ?? '.data');

await main(async () => {
  if (!existsSync(data)) return say(`There is nothing in ${data}.`);
  if (!values.yes) {
    if (!process.stdin.isTTY) throw new Plain('This deletes all data. Say --yes where no one can be asked.');
    const ask = readline.createInterface({ input: process.stdin, output: process.stdout });
    const answer = await ask.question(
      `Delete the project, the warehouse and everything else in ${data}? Type reset to go on: `,
    );
    ask.close();
    if (answer.trim() !== 'reset') return say('Nothing was deleted.');
  }
  // A start that is still running does not start PostgreSQL again.
  rmSync(path.join(data, 'running.json'), { force: true });
  const config = readConfig(data);
  if (config) {
    await stopCluster(config);
    rmSync(config.clusterFolder, { recursive: true, force: true });
  }
  rmSync(data, { recursive: true, force: true });
  say('Deleted. npm start sets everything up again.');
});
