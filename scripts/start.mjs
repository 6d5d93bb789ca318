import { fork } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { parseArgs } from 'node:util';
import { build } from './lib/build.mjs';
import { hasEnded, provision, readConfig, startCluster, stopCluster } from './lib/cluster.mjs';
import { ensureDebian, ensureNpm } from './lib/packages.mjs';
import { alive, freePort, main, Plain, ROOT, say, sleep } from './lib/shell.mjs';

const { values } = parseArgs({
  options: {
    data: { type: 'string' },
    port: { type: 'string' },
    'no-demo': { type: 'boolean' },
    'no-cluster': { type: 'boolean' },
    past: { type: 'string', default: process.env.OUVRAGE_PAST ?? '30' },
    help: { type: 'boolean' },
  },
});

if (values.help) {
  say(
    'npm start -- [--data DIR] [--port N] [--no-demo] [--past DAYS|none] [--no-cluster]\nThe demo plays some days of its past when it is first started; none makes a demo without.\nWith --no-cluster a further server joins one that runs on the same data folder.',
  );
  process.exit(0);
}

/** The day of the harbour on which the demo's past is over. */
const LAST_DAY = 60;
const days = values.past === 'none' ? 0 : Number(values.past);
if (!Number.isInteger(days) || days < 0 || days > LAST_DAY - 10) {
  process.stderr.write(`--past takes none, or a number of days up to ${LAST_DAY - 10}.\n`);
  process.exit(1);
}
const past = days === 0 ? '' : `${LAST_DAY - days}-${LAST_DAY}`;

const data = path.resolve(ROOT, values.data ?? '.data');
const mark = path.join(data, 'running.json');

/** Deaths of the server soon after its start, one after another, that are enough. */
const MOST_DEATHS = 3;
const SOON_SECONDS = 20;
/** How often it is looked whether PostgreSQL has ended by itself, as it does on a full disk. */
const LOOK_MILLISECONDS = 5000;

/** Another start over the same data folder that is alive; a mark that came with a copy of the folder is of another one. */
function beside() {
  if (!existsSync(mark)) return undefined;
  try {
    const { pid, address, folder } = JSON.parse(readFileSync(mark, 'utf8'));
    if (folder !== undefined && folder !== identity()) return undefined;
    const own =
      existsSync(`/proc/${pid}/cmdline`) && readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('start.mjs');
    return alive(pid) && own && pid !== process.pid ? { pid, address } : undefined;
  } catch {
    return undefined;
  }
}

/** The data folder, however it is called. */
function identity() {
  const { dev, ino } = statSync(data);
  return `${dev}:${ino}`;
}

await main(async () => {
  const started = Date.now();
  const other = beside();
  /** A further server uses the cluster of the one that was started first, which stops it. */
  const joins = values['no-cluster'] === true;
  if (joins && !other)
    throw new Plain(`No Ouvrage runs on ${data} that could be joined: start one without --no-cluster first.`);
  if (other && !joins)
    throw new Plain(
      `Ouvrage is already running on this data folder, at ${other.address ?? 'an address still being made'} (process ${other.pid}).`,
    );
  mkdirSync(data, { recursive: true });
  const note = (more = {}) =>
    joins || writeFileSync(mark, JSON.stringify({ pid: process.pid, ...more, folder: identity() }));
  note();
  let server;
  let config;
  let ending = false;
  const end = async (code) => {
    if (ending) return;
    ending = true;
    if (server && server.exitCode === null) {
      server.kill('SIGTERM');
      await Promise.race([new Promise((resolve) => server.once('exit', resolve)), sleep(8000)]);
      if (server.exitCode === null) server.kill('SIGKILL');
    }
    try {
      if (config && !joins) await stopCluster(config);
    } catch (error) {
      process.stderr.write(`${error instanceof Plain ? error.message : error.stack}\n`);
      code ||= 1;
    }
    if (!joins) rmSync(mark, { force: true });
    say('Ouvrage has stopped.');
    process.exit(code);
  };
  /** Starts PostgreSQL again when it has ended by itself; the reason why that does not work is said once. */
  const look = async (said) => {
    await sleep(LOOK_MILLISECONDS);
    if (ending) return;
    let reason;
    // The mark is gone where the folder was reset.
    if (existsSync(mark) && hasEnded(config)) {
      if (said === undefined) say('PostgreSQL has ended; starting it again ...');
      try {
        const { postgresPort } = config;
        config = await startCluster(data);
        say('PostgreSQL is ready again.');
        // The server knows the old port: it is started again, too.
        if (config.postgresPort !== postgresPort) server.kill('SIGTERM');
      } catch (error) {
        reason = error.message;
        if (reason !== said) process.stderr.write(`${reason}\n`);
      }
    }
    void look(reason);
  };
  process.on('SIGINT', () => void end(0));
  process.on('SIGTERM', () => void end(0));
  try {
    await ensureDebian(['postgresql', 'git']);
    await ensureNpm();
    await build();
    if (joins) config = readConfig(data);
    else {
      say('Starting PostgreSQL ...');
      config = await startCluster(data);
      await provision(data, config);
    }
    const port = await freePort(Number(values.port ?? 4100));
    if (values.port && port !== Number(values.port)) say(`Port ${values.port} is taken; using ${port}.`);
    say('Starting the server ...');
    const address = `http://127.0.0.1:${port}`;
    let deaths = 0;
    /** Starts the server; from its first readiness on, it is started again whenever it dies, while PostgreSQL goes on. */
    const serve = () =>
      new Promise((resolve, reject) => {
        const born = Date.now();
        let isReady = false;
        server = fork(path.join(ROOT, 'server/dist/main.js'), [], {
          env: {
            ...process.env,
            NODE_ENV: 'production',
            OUVRAGE_DATA: data,
            OUVRAGE_PORT: String(port),
            OUVRAGE_DEMO: values['no-demo'] ? '' : '1',
            OUVRAGE_PAST: past,
          },
          // A process group of its own would outlive Ctrl-C; the channel ends the server when this process dies.
          stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
        });
        server.on('message', (message) => {
          if (message.kind === 'progress') say(message.text);
          if (message.kind === 'ready') {
            isReady = true;
            resolve();
          }
        });
        server.once('exit', (code, signal) => {
          if (ending) return;
          const how = signal ?? `code ${code}`;
          deaths = Date.now() - born < SOON_SECONDS * 1000 ? deaths + 1 : 1;
          if (deaths >= MOST_DEATHS) {
            const plain = new Plain(
              `The server has ended ${deaths} times within ${SOON_SECONDS} seconds of its start (${how}). What it wrote above says why; nothing was lost.`,
            );
            if (!isReady) return reject(plain);
            process.stderr.write(`${plain.message}\n`);
            return void end(1);
          }
          say(`The server has ended (${how}); starting it again ...`);
          serve().then(
            () => (isReady ? say('The server is ready again.') : resolve()),
            (error) => {
              if (!isReady) return reject(error);
              process.stderr.write(`${error.message}\n`);
              void end(1);
            },
          );
        });
      });
    await serve();
    if (!joins) void look();
    note({ address });
    say(`\nOuvrage is ready after ${((Date.now() - started) / 1000).toFixed(1)} s at ${address}`);
    if (!values['no-demo'])
      say(
        'Sign in as mira (releaser), jonas (editor), vera (viewer) or admin (administrator); the password of each is saltmere.',
      );
    else if (existsSync(path.join(data, 'setup-code.txt')))
      say(
        `Open it to make the first administrator. The setup code is ${readFileSync(path.join(data, 'setup-code.txt'), 'utf8').trim()}`,
      );
    say('Ctrl-C stops everything.');
  } catch (error) {
    process.stderr.write(`${error instanceof Plain ? error.message : error.stack}\n`);
    await end(1);
  }
});
