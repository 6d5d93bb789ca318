import { FITS_FUNCTION, misfitQuery, SESSION_SETTINGS, valueQueries, type Definition, type Names, type Project } from '@ouvrage/core';
import type pg from 'pg';
import { StatementFailed } from '../warehouse/load-errors.js';
import { Loader } from '../warehouse/loader.js';
import { isDatabaseError } from '../warehouse/sql-error.js';
import type { FaultRows, StepError } from './run.entities.js';

/** Errors about a value: it has not the form of its type, or does not fit into it. */
const OF_VALUES = new Set(['22P02', '22007', '22008', '22003', '22001']);
/** Looking for the rows may not take longer than people wait. */
const TIMEOUT = '15s';

/** The value that an error is about, where its message ends with it. */
const valueOf = (message: string): string | undefined => /: "([^"]*)"$/.exec(message)?.[1];

/**
 * The rows that made a load fail with an error about a value: those of the query that do not fit the
 * contract, else those of its inputs that hold the value. Nothing where they are not found in time.
 * @param client a connection in a transaction that no error has ended; what is done here is taken back
 */
export async function traceRows(
  client: pg.PoolClient,
  project: Project,
  table: Definition,
  names: Names,
  error: unknown,
): Promise<Pick<StepError, 'rows' | 'detail'>> {
  const cause = error instanceof StatementFailed ? error.cause : error;
  if (!isDatabaseError(cause) || !OF_VALUES.has(cause.code ?? '')) return {};
  const loader = new Loader(client);
  const ask = async (sql: string): Promise<FaultRows | undefined> => {
    try {
      await client.query('savepoint asked');
      const rows = await loader.faultRows(sql);
      return rows.rows.length ? rows : undefined;
    } catch {
      // The query itself may fail on the value: then its inputs are looked through.
      await client.query('rollback to savepoint asked');
      return undefined;
    }
  };
  try {
    await client.query('savepoint tracing');
    for (const setting of SESSION_SETTINGS) await client.query(setting);
    await client.query(`set local statement_timeout = '${TIMEOUT}'`);
    await client.query(FITS_FUNCTION);
    const misfits = misfitQuery(project, table, names);
    const rows = misfits === undefined ? undefined : await ask(misfits);
    if (rows) return { rows, detail: 'The rows of the query that do not fit the contract:' };
    const value = valueOf(cause.message);
    for (const input of value === undefined ? [] : valueQueries(project, table, value, names)) {
      const held = await ask(input.sql);
      if (held) return { rows: held, detail: `“${value!}” stands in these rows of ${input.table}:` };
    }
    return {};
  } finally {
    await client.query('rollback to savepoint tracing');
  }
}
