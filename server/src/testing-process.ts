import { fork, type ChildProcess } from 'node:child_process';
import net from 'node:net';
import path from 'node:path';

/** The built server as a process of its own, so that it can be killed; the one that was started last. */
let server: ChildProcess | undefined;
const servers = new Set<ChildProcess>();
/** What was written last. */
let written = '';

/** How the server is, and what it wrote last: for an error that says more than that it does not answer. */
export const lastWords = (): string =>
  `the server ${server?.exitCode === null && server.signalCode === null ? 'runs' : `ended with ${server?.exitCode ?? server?.signalCode}`}; ${written.slice(-3000)}`;

async function freePort(): Promise<number> {
  const probe = net.createServer();
  await new Promise<void>((resolve) => probe.listen(0, '127.0.0.1', resolve));
  const { port } = probe.address() as net.AddressInfo;
  await new Promise((resolve) => probe.close(resolve));
  return port;
}

/** Starts it, beside any that run on the same data. @returns its address */
export async function start(): Promise<string> {
  const port = await freePort();
  const child = fork(path.join(import.meta.dirname, '../dist/main.js'), [], {
    env: { ...process.env, NODE_ENV: 'production', OUVRAGE_PORT: String(port) },
    stdio: ['ignore', 'pipe', 'inherit', 'ipc'],
    execArgv: [],
  });
  server = child;
  servers.add(child);
  child.stdout!.on('data', (text: Buffer) => (written = (written + text.toString()).slice(-20_000)));
  await new Promise<void>((resolve, reject) => {
    child.on('message', (m) => (m as { kind: string }).kind === 'ready' && resolve());
    child.once('exit', (code) => reject(new Error(`the server ended with ${code}`)));
  });
  return `http://127.0.0.1:${port}`;
}

/** Ends all servers that run. */
export async function kill(signal: NodeJS.Signals): Promise<void> {
  await Promise.all(
    [...servers].map(async (child) => {
      servers.delete(child);
      if (child.exitCode !== null || child.signalCode !== null) return;
      const gone = new Promise((resolve) => child.once('exit', resolve));
      child.kill(signal);
      await gone;
    }),
  );
}

/** Signs in and sends requests of one person: values as JSON, a text as the file that it is. */
export async function client(address: string) {
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
      headers: {
        'content-type': typeof body === 'string' ? 'application/octet-stream' : 'application/json',
        cookie,
        'x-csrf-token': csrf,
      },
      ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
    });
    return (await answer.json()) as T;
  };
}

/** A run, as the server tells it. */
export interface RunView {
  readonly id: number;
  readonly state: string;
  readonly steps: readonly { readonly table: string; readonly state: string }[];
}

/** What is waited for at most. */
const PATIENCE_MILLISECONDS = 90_000;

/** Asks again until something is so. @throws Error that says what was found last, where that takes too long */
export async function until<T>(look: () => Promise<T>, done: (found: T) => boolean): Promise<T> {
  const since = Date.now();
  for (;;) {
    const found = await look();
    if (done(found)) return found;
    if (Date.now() - since > PATIENCE_MILLISECONDS)
      throw new Error(`waited in vain; found ${JSON.stringify(found)?.slice(0, 2000)}`);
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}
