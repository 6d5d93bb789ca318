import type pg from 'pg';
import { logger } from '../shared/problem.js';
import type { WarehouseService } from '../warehouse/warehouse.service.js';

const EVERY_MILLISECONDS = 500;

/**
 * Lets long reading give way: while work goes on in one transaction, it is looked whether another session waits for it,
 * as a swap does for a table that was read. @param give aborted then
 */
export async function yieldsToSwaps<T>(
  client: pg.PoolClient,
  { warehouse, give }: { readonly warehouse: WarehouseService; readonly give: AbortController },
  work: () => Promise<T>,
): Promise<T> {
  const { processID } = client as unknown as { readonly processID: number };
  const ended = new AbortController();
  let looking: Promise<void> = Promise.resolve();
  const timer = setInterval(() => {
    looking = looking
      .then(() => (ended.signal.aborted ? false : isWaitedFor(warehouse, processID)))
      .then((isWaited) => isWaited && give.abort())
      .catch((error: unknown) => logger.warn(error)) as Promise<void>;
  }, EVERY_MILLISECONDS);
  try {
    return await work();
  } finally {
    clearInterval(timer);
    ended.abort();
    await looking;
  }
}

/** The reader may not look at other sessions: asked as the builder. */
const isWaitedFor = (warehouse: WarehouseService, pid: number): Promise<boolean> =>
  warehouse.session('production', async (client) => {
    const { rowCount } = await client.query(
      'select from pg_locks where not granted and $1::integer = any(pg_blocking_pids(pid)) limit 1',
      [pid],
    );
    return rowCount === 1;
  });
