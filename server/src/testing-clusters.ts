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
}

/** The start command's own functions. */
export const clusters = async (): Promise<Clusters> =>
  (await import(new URL('../../scripts/lib/cluster.mjs', import.meta.url).href)) as Clusters;
