import type pg from 'pg';
import { logger } from './problem.js';

/** A pool of which no connection ends the process: one that is lost is told to who waits for its answer, and is not used again. */
export function handled(pool: pg.Pool): pg.Pool {
  pool.on('error', (error) => logger.warn(error));
  pool.on('connect', (client) => client.on('error', (error) => logger.warn(error)));
  return pool;
}

/** A single connection like it. */
export function handledClient(client: pg.Client): pg.Client {
  return client.on('error', (error) => logger.warn(error));
}
