import { mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { startCluster, stopCluster, superuser } from './cluster.mjs';
import { isRoot } from './shell.mjs';

/** A cluster of its own, with the database that the suite expects. */
export async function cluster() {
  const data = mkdtempSync(path.join(isRoot ? '/var/tmp' : os.tmpdir(), 'ouvrage-corpus-'));
  const config = await startCluster(data, { wantedPort: 5960 });
  // Nothing of it is kept.
  for (const setting of ['fsync', 'synchronous_commit', 'full_page_writes'])
    await superuser(config, 'postgres', `alter system set ${setting} = off`);
  await superuser(config, 'postgres', 'select pg_reload_conf()');
  await superuser(config, 'postgres', "create database regression template template0 encoding 'UTF8' locale 'C'");
  await superuser(
    config,
    'postgres',
    "alter database regression set lc_messages = 'C'; alter database regression set bytea_output = 'hex'; alter database regression set timezone_abbreviations = 'Default'",
  );
  return {
    connection: { host: '127.0.0.1', port: config.postgresPort, user: 'postgres', password: config.passwords.postgres },
    async stop() {
      await stopCluster(config);
      rmSync(config.clusterFolder, { recursive: true, force: true });
      rmSync(data, { recursive: true, force: true });
    },
  };
}
