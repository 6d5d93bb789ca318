import type pg from 'pg';
import type { ReaderService } from '../warehouse/reader.service.js';

const EVERY_MILLISECONDS = 500;

/**
 * Lets long reading give way: while work goes on in one transaction, it is looked whether another session waits for it,
 * as a swap does for a table that was read. @param give aborted then
 */
export async function yieldsToSwaps<T>(
  client: pg.PoolClient,
  { reader, give }: { readonly reader: ReaderService; readonly give: AbortController },
  work: () => Promise<T>,
): Promise<T> {
  const { processID } = client as unknown as { readonly processID: number };
  const ended = new AbortController();
  let looking: Promise<void> = Promise.resolve();
  const timer = setInterval(() => {
    looking = looking
      .then(() => (ended.signal.aborted ? false : isWaitedFor(reader, processID, ended.signal)))
      .then((isWaited) => isWaited && give.abort())
      .catch(() => undefined) as Promise<void>;
  }, EVERY_MILLISECONDS);
  try {
    return await work();
  } finally {
    clearInterval(timer);
    ended.abort();
    await looking;
  }
}

const isWaitedFor = (reader: ReaderService, pid: number, signal: AbortSignal): Promise<boolean> =>
  reader.read(signal, async (client) => {
    const { rowCount } = await client.query(
      'select from pg_locks where not granted and $1::integer = any(pg_blocking_pids(pid)) limit 1',
      [pid],
    );
    return rowCount === 1;
  });
