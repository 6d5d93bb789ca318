import { afterAll, beforeAll, expect, jest, test } from '@jest/globals';
import { execFile } from 'node:child_process';
import { mkdtemp, readFile, rename, rm } from 'node:fs/promises';
import path from 'node:path';
import { promisify } from 'node:util';
import pg from 'pg';
import { clusters, type Cluster } from './testing-clusters.js';

/** A data folder can be moved; a copy of it is another one. */
jest.setTimeout(120_000);
let parent: string;
const running: Cluster[] = [];
beforeAll(async () => {
  parent = await mkdtemp('/var/tmp/ouvrage-folders-');
});
afterAll(async () => {
  const { stopCluster } = await clusters();
  for (const cluster of running) {
    await stopCluster(cluster);
    await rm(cluster.clusterFolder, { recursive: true, force: true });
  }
  await rm(parent, { recursive: true, force: true });
});

async function start(folder: string): Promise<Cluster> {
  const { startCluster } = await clusters();
  const cluster = await startCluster(path.join(parent, folder), { wantedPort: 5970 });
  running.push(cluster);
  return cluster;
}

async function stop(cluster: Cluster): Promise<void> {
  await (await clusters()).stopCluster(cluster);
  running.splice(running.indexOf(cluster), 1);
}

async function ask(cluster: Cluster, sql: string): Promise<unknown[]> {
  const client = new pg.Client({
    host: '127.0.0.1',
    port: cluster.postgresPort,
    user: 'postgres',
    database: 'postgres',
    password: cluster.passwords.postgres,
  });
  await client.connect();
  try {
    return (await client.query<Record<string, unknown>>(sql)).rows.map((r) => Object.values(r)[0]);
  } finally {
    await client.end();
  }
}

test('a folder that was moved goes on; a copy has a cluster and a port of its own, and reaches nothing of the original', async () => {
  const first = await start('one');
  await ask(first, 'create table kept as select 7 as n');
  expect(await readFile(path.join(parent, 'one', 'config.json'), 'utf8')).not.toContain(parent);
  await stop(first);
  await rename(path.join(parent, 'one'), path.join(parent, 'two'));
  const moved = await start('two');
  expect(await ask(moved, 'select n from kept')).toEqual([7]);
  await stop(moved);
  // Owners stay what they are, as whoever copies a folder wants them.
  await promisify(execFile)('cp', ['-a', path.join(parent, 'two'), path.join(parent, 'copy')]);
  const original = await start('two');
  const copy = await start('copy').catch((error: Error) => error);
  // A cluster that stands outside of its folder is not copied with it: then the start says so.
  if (copy instanceof Error) return expect(copy.message).toContain('is a copy of');
  expect(copy.postgresPort).not.toBe(original.postgresPort);
  expect(copy.clusterFolder).not.toBe(original.clusterFolder);
  await ask(copy, 'update kept set n = 8');
  expect(await ask(original, 'select n from kept')).toEqual([7]);
  await stop(copy);
  expect(await ask(original, 'select n from kept')).toEqual([7]);
});
