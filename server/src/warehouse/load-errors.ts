import type { LoadStatement } from '@ouvrage/core/compile';
import type { FaultRows } from '@ouvrage/api/rows';
import { isDatabaseError } from './sql-error.js';

/** Wraps an error with the statement that failed. */
export class StatementFailed extends Error {
  constructor(
    override readonly cause: unknown,
    readonly statement: LoadStatement,
  ) {
    super(cause instanceof Error ? cause.message : String(cause));
  }
}

/** The database's code of an error, also of a statement that failed; undefined for errors of other kinds. */
export function codeOf(error: unknown): string | undefined {
  const cause = error instanceof StatementFailed ? error.cause : error;
  return isDatabaseError(cause) ? cause.code : undefined;
}

/** A load that stopped because of rows that may not be. */
export class LoadStopped extends Error {
  constructor(
    message: string,
    readonly hint: string | undefined,
    readonly rows: FaultRows,
    /** The check of the policy that did not hold, if it is one that people see. */
    readonly check?: { readonly name: string; readonly sql: string },
  ) {
    super(message);
  }
}

/** A swap that cannot be done. */
export class SwapBlocked extends Error {}
