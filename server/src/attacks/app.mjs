import { execFile } from 'node:child_process';
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import http from 'node:http';
import os from 'node:os';
import path from 'node:path';
import { promisify } from 'node:util';

/**
 * What an attack can do: requests over HTTP as one of the demo's people, git with a token, and files in the drop
 * folder. Nothing here knows how the application works inside.
 */

const run = promisify(execFile);

/** An attack that got through. */
export class Broken extends Error {}

/** @throws Broken with what happened, unless it held */
export function held(condition, what) {
  if (!condition) throw new Broken(what);
}

export class App {
  constructor(address, data) {
    this.address = address;
    this.data = data;
    this.people = new Map();
  }

  /** One request. @returns status, headers and the body, as JSON where it is that */
  request(method, where, { body, headers = {}, from, raw, timeout = 60_000 } = {}) {
    const { hostname, port } = new URL(this.address);
    const payload = raw ?? (body === undefined ? undefined : JSON.stringify(body));
    return new Promise((resolve, reject) => {
      const asked = http.request(
        {
          hostname,
          port,
          method,
          path: where,
          localAddress: from,
          timeout,
          agent: false,
          headers: {
            ...(payload === undefined
              ? {}
              : { 'content-type': 'application/json', 'content-length': Buffer.byteLength(payload) }),
            ...headers,
          },
        },
        (answer) => {
          const chunks = [];
          answer.on('data', (d) => chunks.push(d));
          answer.on('error', reject);
          answer.on('end', () => {
            const text = Buffer.concat(chunks).toString('utf8');
            let json;
            try {
              json = JSON.parse(text);
            } catch {
              json = undefined;
            }
            resolve({ status: answer.statusCode, headers: answer.headers, text, body: json });
          });
        },
      );
      asked.on('timeout', () => asked.destroy(new Error(`no answer within ${timeout} ms`)));
      asked.on('error', reject);
      asked.end(payload);
    });
  }

  async signIn(name, options = {}) {
    const answer = await this.request('POST', '/api/sign-in', { body: { name, password: 'saltmere' }, ...options });
    if (answer.status !== 200) throw new Error(`${name} cannot sign in: ${answer.status} ${answer.text.slice(0, 200)}`);
    const cookie = answer.headers['set-cookie'][0].split(';')[0];
    const headers = { cookie, 'x-csrf-token': answer.body.csrf };
    const ask = (method, where, body, more = {}) =>
      this.request(method, where, { ...more, body, headers: { ...headers, ...more.headers } });
    return { name, headers, get: (where, more) => ask('GET', where, undefined, more), send: ask };
  }

  /** A person of the demo: mira is a releaser, jonas an editor, vera a viewer, admin an administrator. */
  async as(name) {
    if (!this.people.has(name)) this.people.set(name, await this.signIn(name));
    return this.people.get(name);
  }

  async workspace(name, as = 'jonas') {
    const { body } = await (await this.as(as)).send('POST', '/api/workspaces', { name });
    return body.slug;
  }

  async draft(slug, file, text, as = 'jonas') {
    const person = await this.as(as);
    const { body: line } = await person.get(`/api/workspaces/${slug}/files`);
    const version = line?.drafts?.find((d) => d.path === file)?.version ?? 0;
    return person.send('PUT', `/api/workspaces/${slug}/drafts`, { path: file, text, version });
  }

  /** Runs tables and waits. @returns the run, or the refusal */
  async run(slug, tables, { as = 'jonas', upstream = true, seconds = 60 } = {}) {
    const person = await this.as(as);
    const asked = await person.send('POST', `/api/workspaces/${slug}/runs`, { tables, upstream, downstream: false });
    return asked.status === 201 ? this.ended(person, asked.body.id, seconds) : { state: 'refused', ...asked.body };
  }

  /** Brings a source table of production in, which swaps its landing table. @returns the run, or the refusal */
  async intake(table, seconds = 60) {
    const mira = await this.as('mira');
    const asked = await mira.send('POST', '/api/workspaces/production/intake', { tables: [table] });
    return asked.status === 201 ? this.ended(mira, asked.body.id, seconds) : { state: 'refused', ...asked.body };
  }

  async ended(person, id, seconds = 60) {
    for (let i = 0; i < seconds * 5; i++) {
      const { body } = await person.get(`/api/runs/${id}`);
      if (body?.state && !['queued', 'running'].includes(body.state)) return body;
      await sleep(200);
    }
    return { state: `still going after ${seconds} s` };
  }

  /** Rows of a query, as a viewer may ask. */
  async rows(sql, as = 'vera') {
    const { body, status, text } = await (
      await this.as(as)
    ).send('POST', '/api/workspaces/production/preview', { path: 'adhoc/attack.sql', text: sql, limit: 100 });
    if (status !== 200) throw new Error(`the query failed: ${text.slice(0, 300)}`);
    return body.rows;
  }

  /** The commit that production is built from. */
  async main() {
    return (await (await this.as('mira')).get('/api/workspaces/production/files')).body.commit;
  }

  /** A clone of the project with a person's own token. */
  async clone(as = 'jonas') {
    const { body } = await (await this.as(as)).send('POST', '/api/tokens', { label: 'attack' });
    const folder = mkdtempSync(path.join(os.tmpdir(), 'ouvrage-attack-'));
    const env = {
      ...process.env,
      GIT_CONFIG_GLOBAL: '/dev/null',
      GIT_TERMINAL_PROMPT: '0',
      GIT_AUTHOR_NAME: 'A',
      GIT_AUTHOR_EMAIL: 'a@x.invalid',
      GIT_COMMITTER_NAME: 'A',
      GIT_COMMITTER_EMAIL: 'a@x.invalid',
    };
    const git = async (...args) => (await run('git', args, { cwd: folder, env })).stdout.trim();
    // Nothing of it goes on in the background.
    await git(
      'clone',
      '--quiet',
      '-c',
      'gc.auto=0',
      '-c',
      'maintenance.auto=false',
      `${this.address.replace('//', `//${as}:${body.token}@`)}/git/project.git`,
      '.',
    );
    /** @returns what git says where the push is refused, else undefined */
    const refused = (...args) =>
      git('push', ...args).then(
        () => undefined,
        (error) => String(error.stderr),
      );
    return {
      folder,
      git,
      refused,
      input: (args, text) => piped('git', args, text, { cwd: folder, env }),
      remove: () => removed(folder),
    };
  }

  get drop() {
    return path.join(this.data, 'drop');
  }

  /** Waits for a file of the drop folder to be dealt with. @returns what became of it */
  async delivered(name, seconds = 60) {
    const mira = await this.as('mira');
    for (let i = 0; i < seconds * 2; i++) {
      await mira.send('POST', '/api/deliveries/look', undefined, { timeout: 120_000 }).catch(() => undefined);
      const found = await mira.get('/api/deliveries').catch(() => undefined);
      const file = found?.body?.files?.find((f) => f.file === name);
      if (file) return file;
      await sleep(500);
    }
    return undefined;
  }

  /** Processes of this application, by a part of their command line. */
  processes(part) {
    return readdirSync('/proc')
      .filter((n) => /^\d+$/.test(n))
      .flatMap((pid) => {
        try {
          const line = readFileSync(`/proc/${pid}/cmdline`, 'utf8').replaceAll('\0', ' ');
          const environment = readFileSync(`/proc/${pid}/environ`, 'utf8');
          return part.test(line) && (line.includes(this.data) || environment.includes(this.data))
            ? [{ pid: Number(pid), line }]
            : [];
        } catch {
          return [];
        }
      });
  }

  /** Backends of this application's database: their postmaster keeps its file in the data folder, or says it of its own. */
  backends(part) {
    const folder = [path.join(this.data, 'postgres')].find((f) => existsSync(path.join(f, 'postmaster.pid')));
    const postmaster = folder
      ? Number(readFileSync(path.join(folder, 'postmaster.pid'), 'utf8').split('\n')[0])
      : undefined;
    return readdirSync('/proc')
      .filter((n) => /^\d+$/.test(n))
      .flatMap((pid) => {
        try {
          const line = readFileSync(`/proc/${pid}/cmdline`, 'utf8');
          const parent = Number(/\nPPid:\s*(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1]);
          return part.test(line) && (postmaster === undefined || parent === postmaster)
            ? [{ pid: Number(pid), line }]
            : [];
        } catch {
          return [];
        }
      });
  }

  /** The server's own resident memory, in MB. */
  memory() {
    const [server] = this.processes(/server\/dist\/main\.js/);
    if (!server) return 0;
    const pages = Number(readFileSync(`/proc/${server.pid}/statm`, 'utf8').split(' ')[1]);
    return (pages * 4096) / 1_000_000;
  }

  /**
   * Does something while health is asked for every 100 ms.
   * @throws Broken where the server takes over a second to answer, or over 1,000 MB of memory
   */
  async watched(work) {
    let [slowest, most, isOver] = [0, 0, false];
    const watching = (async () => {
      while (!isOver) {
        const started = performance.now();
        const answer = await this.request('GET', '/api/health', { timeout: 20_000 }).catch((error) => ({
          status: String(error.message),
        }));
        slowest = Math.max(slowest, performance.now() - started);
        most = Math.max(most, this.memory());
        if (answer.status !== 200) {
          isOver = true;
          throw new Broken(`health answers ${answer.status}`);
        }
        await sleep(100);
      }
    })();
    watching.catch(() => undefined);
    try {
      const result = await Promise.race([work(), watching.then(() => new Promise(() => undefined))]);
      return result;
    } finally {
      isOver = true;
      await watching;
      held(slowest < 1000, `health took ${Math.round(slowest)} ms`);
      held(most < 1000, `the server took ${Math.round(most)} MB`);
    }
  }
}

/** Asks again until something is so. @throws Error where it takes too long */
export async function until(look, seconds = 30) {
  for (const end = Date.now() + seconds * 1000; Date.now() < end; await sleep(50)) {
    const found = await look();
    if (found) return found;
  }
  throw new Error('waited in vain');
}

/** Ends processes; one that has ended since it was listed is none. */
export function kill(processes, signal) {
  for (const { pid } of processes)
    try {
      process.kill(pid, signal);
    } catch (error) {
      if (error.code !== 'ESRCH') throw error;
    }
}

export const sleep = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

function piped(command, args, text, options) {
  return new Promise((resolve, reject) => {
    const child = execFile(command, args, options, (error, out) => (error ? reject(error) : resolve(out.trim())));
    child.stdin.end(text);
  });
}

/** Removes a folder, also while git still tidies up in it: what came into it meanwhile is looked for again. */
function removed(folder) {
  for (let left = 50; ; left--) {
    try {
      rmSync(folder, { recursive: true, force: true });
      return;
    } catch (error) {
      if (left === 0 || error.code !== 'ENOTEMPTY') throw error;
      Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 100);
    }
  }
}
