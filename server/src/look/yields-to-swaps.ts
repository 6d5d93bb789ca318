import type pg from 'pg';
import { logger } from '../shared/problem.js';
import type { ReaderService } from '../warehouse/reader.service.js';
import type { WarehouseService } from '../warehouse/warehouse.service.js';

const EVERY_MILLISECONDS = 500;

/** How often reading that gave way is begun again. */
const AGAIN = 3;

interface Services {
  readonly reader: ReaderService;
  readonly warehouse: WarehouseService;
}

interface LongReading {
  /** Of the leaving of who looks. */
  readonly signal: AbortSignal;
  readonly seconds?: number;
  /** Called before the reading is begun again. */
  readonly onAgain?: () => void;
}

/** Reads in one transaction that gives way to whoever waits for it, as a swap does, and is begun again then. */
export async function readYielding<T>(
  { reader, warehouse }: Services,
  { signal, seconds, onAgain }: LongReading,
  body: (client: pg.ClientBase) => Promise<T>,
): Promise<T> {
  for (let tries = 1; ; tries++) {
    const give = new AbortController();
    try {
      return await reader.read(
        AbortSignal.any([signal, give.signal]),
        (client) => yieldsToSwaps(client, { warehouse, give }, () => body(client)),
        seconds,
      );
    } catch (error) {
      if (signal.aborted || !give.signal.aborted || tries === AGAIN) throw error;
      onAgain?.();
    }
  }
}

/**
 * Lets long reading give way: while work goes on in one transaction, it is looked whether another session waits for it,
 * as a swap does for a table that was read. @param give aborted then
 */
async function yieldsToSwaps<T>(
  client: pg.ClientBase,
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
