import { mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';

/** A PostgreSQL cluster of a data folder, as the start command keeps it. */
export interface Cluster {
  readonly id: string;
  readonly postgresPort: number;
  readonly clusterFolder: string;
  readonly passwords: { readonly postgres: string };
}

interface Clusters {
  startCluster(data: string, options: { readonly wantedPort: number }): Promise<Cluster>;
  stopCluster(cluster: Cluster): Promise<void>;
  provision(data: string, cluster: Cluster): Promise<void>;
}

/** The start command's own functions. */
export const clusters = async (): Promise<Clusters> =>
  (await import(new URL('../../scripts/lib/cluster.mjs', import.meta.url).href)) as Clusters;

/** A data folder with a cluster and nothing in it, for an application that is started for the first time. */
export async function emptyData(wantedPort: number): Promise<{ readonly data: string; end(): Promise<void> }> {
  const { startCluster, stopCluster, provision } = await clusters();
  const data = mkdtempSync(path.join(process.getuid?.() === 0 ? '/var/tmp' : os.tmpdir(), 'ouvrage-test-'));
  const cluster = await startCluster(data, { wantedPort });
  await provision(data, cluster);
  const end = async () => {
    await stopCluster(cluster);
    for (const folder of [cluster.clusterFolder, data]) rmSync(folder, { recursive: true, force: true });
  };
  return { data, end };
}
