import { afterEach, expect, test } from '@jest/globals';
import { fork, type ChildProcess } from 'node:child_process';
import net from 'node:net';
import path from 'node:path';
import pg from 'pg';
import { Config } from './shared/config.js';

/** The built server as a process of its own, so that it can be killed. */
let server: ChildProcess | undefined;

async function freePort(): Promise<number> {
  const probe = net.createServer();
  await new Promise<void>((resolve) => probe.listen(0, '127.0.0.1', resolve));
  const { port } = probe.address() as net.AddressInfo;
  await new Promise((resolve) => probe.close(resolve));
  return port;
}

async function start(): Promise<string> {
  const port = await freePort();
  const child = fork(path.join(import.meta.dirname, '../dist/main.js'), [], {
    env: { ...process.env, NODE_ENV: 'production', OUVRAGE_PORT: String(port) },
    stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
    execArgv: [],
  });
  server = child;
  await new Promise<void>((resolve, reject) => {
    child.on('message', (m) => (m as { kind: string }).kind === 'ready' && resolve());
    child.once('exit', (code) => reject(new Error(`the server ended with ${code}`)));
  });
  return `http://127.0.0.1:${port}`;
}

async function kill(signal: NodeJS.Signals): Promise<void> {
  if (!server || server.exitCode !== null || server.signalCode !== null) return;
  const gone = new Promise((resolve) => server!.once('exit', resolve));
  server.kill(signal);
  await gone;
}

afterEach(() => kill('SIGKILL'));

/** Signs in and sends requests of one person. */
async function client(address: string) {
  const signedIn = await fetch(`${address}/api/sign-in`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ name: 'mira', password: 'saltmere' }),
  });
  const cookie = signedIn.headers.get('set-cookie')!.split(';')[0]!;
  const { csrf } = (await signedIn.json()) as { csrf: string };
  return async <T>(method: string, where: string, body?: unknown): Promise<T> => {
    const answer = await fetch(`${address}/api/${where}`, {
      method,
      headers: { 'content-type': 'application/json', cookie, 'x-csrf-token': csrf },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    });
    return (await answer.json()) as T;
  };
}

interface RunView {
  readonly id: number;
  readonly state: string;
  readonly steps: readonly { readonly table: string; readonly state: string }[];
}

async function until(look: () => Promise<RunView>, done: (run: RunView) => boolean): Promise<RunView> {
  for (;;) {
    const run = await look();
    if (done(run)) return run;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

test('killed in mid-run, the next start marks the run interrupted, nothing is half-built, and it can be continued', async () => {
  let ask = await client(await start());
  const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name: 'Killed' });
  const { files } = await ask<{ files: Record<string, string> }>('GET', `workspaces/${slug}/files`);
  const slow = files['core/dim_port.sql']!.replace('from staging.port', 'from staging.port, pg_sleep(4)');
  await ask('PUT', `workspaces/${slug}/drafts`, { path: 'core/dim_port.sql', text: slow, version: 0 });
  const { id } = await ask<{ id: number }>('POST', `workspaces/${slug}/runs`, { tables: ['core.dim_port'], upstream: true, downstream: false });
  const stepOf = (run: RunView) => run.steps.find((s) => s.table === 'core.dim_port')?.state;
  await until(
    () => ask<RunView>('GET', `runs/${id}`),
    (run) => stepOf(run) === 'running',
  );
  await new Promise((resolve) => setTimeout(resolve, 300));
  await kill('SIGKILL');

  ask = await client(await start());
  const interrupted = await ask<RunView>('GET', `runs/${id}`);
  expect([interrupted.state, stepOf(interrupted)]).toEqual(['interrupted', 'interrupted']);

  const again = await ask<{ id: number }>('POST', `runs/${id}/continue`);
  const done = await until(
    () => ask<RunView>('GET', `runs/${again.id}`),
    (run) => !['queued', 'running'].includes(run.state),
  );
  expect(done.state).toBe('succeeded');

  const warehouse = new pg.Client(Config.fromEnvironment().warehouse.workspace);
  await warehouse.connect();
  const { rows } = await warehouse.query(
    `select n.nspname::text as schema, c.relname::text as name from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname like 'w_killed%' and c.relkind in ('r', 'v') and n.nspname not like '%ouvrage' order by 1, 2`,
  );
  await warehouse.end();
  expect(rows).toEqual([
    { schema: 'w_killed_core', name: 'dim_port' },
    { schema: 'w_killed_core', name: 'dim_port~keys' },
  ]);
});
