import { afterAll, expect, jest, test } from '@jest/globals';
import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, rmdirSync } from 'node:fs';
import { statfs, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { client, until, type RunView } from './testing-process.js';

/** A small disk of its own; undefined where none can be mounted, as by an ordinary user. */
function smallDisk(): string | undefined {
  const folder = mkdtempSync('/var/tmp/ouvrage-full-');
  try {
    execFileSync('mount', ['-t', 'tmpfs', '-o', 'size=420m,mode=755', 'tmpfs', folder], { stdio: 'ignore' });
    return folder;
  } catch {
    rmdirSync(folder);
    return undefined;
  }
}

/** The whole application on a disk that becomes full. */
const data = smallDisk() ?? '';
const onDisk = data ? test : test.skip;
jest.setTimeout(180_000);

let application: ChildProcess | undefined;
afterAll(async () => {
  if (application?.exitCode === null) {
    application.kill('SIGTERM');
    await once(application, 'exit');
  }
  if (!data) return;
  execFileSync('umount', [data]);
  rmdirSync(data);
});

/** Starts the application by its own command. @returns its address */
async function startAll(): Promise<string> {
  application = spawn(
    process.execPath,
    [fileURLToPath(new URL('../../scripts/start.mjs', import.meta.url)), '--data', data, '--port', '4390'],
    {
      stdio: ['ignore', 'pipe', 'inherit'],
    },
  );
  let printed = '';
  return new Promise((resolve, reject) => {
    application!.stdout!.on('data', (text: Buffer) => {
      printed += text.toString();
      const [, address] = /is ready after .* at (\S+)/.exec(printed) ?? [];
      if (address) resolve(address);
    });
    application!.once('exit', () => reject(new Error(printed)));
  });
}

interface Told {
  readonly code: string;
  readonly title: string;
  readonly detail: string;
}

/** A definition of as many rows of 640 bytes. */
const definition = (name: string, rows: number) => ({
  path: `core/${name}.sql`,
  version: 0,
  text: `create table core.${name} (n integer primary key, x text) with (load = rebuild);\nselect i::integer as n, repeat(md5(i::text), 20) as x from generate_series(1, ${rows}) as s (i);`,
});

/** Leaves nothing of the disk. */
async function fillUp(): Promise<void> {
  for (let n = 0; ; n++) {
    const { bavail, bsize } = await statfs(data);
    if (bavail === 0) return;
    await writeFile(path.join(data, `ballast-${n}`), Buffer.alloc(Math.min(bavail * bsize, 64_000_000))).catch(
      () => undefined,
    );
  }
}

onDisk(
  'a full disk is told in a load, a commit, a preview and a delivery; with room again everything goes on',
  async () => {
    // Other data on the same disk: what there is to make room with.
    await writeFile(path.join(data, 'ballast-other'), Buffer.alloc(60_000_000));
    const ask = await client(await startAll());
    const { slug } = await ask<{ slug: string }>('POST', 'workspaces', { name: 'Full' });
    /** What a person is told of a run: its end, or what the server answers instead. */
    const run = async (table: string): Promise<string> => {
      const asked = await ask<{ id: number } & Told>('POST', `workspaces/${slug}/runs`, {
        tables: [table],
        upstream: false,
        downstream: false,
      });
      if (asked.code !== undefined) return asked.title;
      const ended = await until(
        () =>
          ask<RunView & Told & { error: string | null; steps: readonly { error: { message: string } | null }[] }>(
            'GET',
            `runs/${asked.id}`,
          ),
        (r) => r.code !== 'database-away' && !['queued', 'running'].includes(r.state),
      );
      return (
        ended.title ?? (ended.state === 'succeeded' ? 'succeeded' : (ended.error ?? ended.steps[0]!.error!.message))
      );
    };
    await ask('PUT', `workspaces/${slug}/drafts`, definition('small', 10));
    await ask('PUT', `workspaces/${slug}/drafts`, definition('big', 2_000_000));
    // PostgreSQL's own log fills it: it ends and recovers, and the run says why.
    expect(await run('core.big')).toMatch(/^The disk is full/);

    await fillUp();
    const told = await Promise.all([
      ask<Told>('POST', `workspaces/${slug}/commits`, { message: 'x' }),
      ask<Told>('POST', `workspaces/${slug}/preview`, {
        path: 'adhoc/x.sql',
        text: 'select i, md5(i::text) from generate_series(1, 9000000) as s (i) order by 2',
        limit: 5,
      }),
      ask<Told>('POST', 'deliveries/file?name=berth_rates_2031-01-01.csv', 'x'.repeat(100_000)),
    ]);
    for (const { code, detail } of told) {
      expect(code).toBe('disk-full');
      expect(detail).toContain(`0 MB of 440 MB are free where ${data} is`);
    }
    expect(await run('core.small')).toMatch(/^The disk is full/);

    execFileSync('sh', ['-c', `rm ${data}/ballast-*`]);
    expect(
      await until(
        () => run('core.small'),
        (found) => found === 'succeeded',
      ),
    ).toBe('succeeded');
    expect(await ask('POST', `workspaces/${slug}/commits`, { message: 'x' })).toMatchObject({ message: 'x' });
    expect(await ask('GET', 'health')).toEqual({ state: 'well' });
  },
);
