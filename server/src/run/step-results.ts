import type { StepError } from '@ouvrage/api/run';
import { type CheckOutcome, policyOutcome } from '../load/check-outcome.js';
import { Loader } from '../load/loader.js';
import { Problem } from '../shared/problem.js';
import { LoadStopped } from '../warehouse/load-errors.js';
import type { Clock } from '../warehouse/loaded.js';

/** The load's time as its transaction has it. */
export const LOAD_TIME = `nullif(current_setting('load.time', true), '')`;

/** The name of a file of checks/ that a step runs. */
export const checkName = (step: string): string => step.slice('checks/'.length);

/** Whether a step runs a file of checks/; else it is about the table of its name. */
export const isCheckFile = (step: string): boolean => step.startsWith('checks/');

/** What a load did: what it counted, if it counts anything, rows of each kind, and why it took its shape. */
export const didOf = ({ counts, kinds, note }: Loader, clock?: Clock) => ({
  counts: Object.keys(counts).length ? counts : null,
  kinds: Object.keys(kinds).length ? kinds : null,
  note:
    [note, clock === 'stand-in' ? 'its time is the demo clock’s' : undefined]
      .filter((n) => n !== undefined)
      .join('; ') || null,
});

/** The check of the policy that stopped a load. */
export const stoppedChecks = (table: string, error: unknown): CheckOutcome[] =>
  error instanceof LoadStopped && error.check !== undefined
    ? [policyOutcome(table, error.check.name, error.check.sql, error.rows)]
    : [];

/** A load that could not begin. */
export const problemError = ({ title, detail }: Problem): StepError => ({
  message: title,
  ...(detail === undefined ? {} : { hint: detail }),
});

/** A load that was stopped by rows that may not be, with those rows. */
export function stoppedError({ message, hint, rows }: LoadStopped): StepError {
  return { message, rows, hint: `${hint === undefined ? '' : `${hint} `}The table is unchanged.` };
}

/** @param isAlone whether the checks ran without a load */
export function brokenError(checks: readonly CheckOutcome[], { isAlone = false } = {}): StepError {
  const broken = checks.filter((c) => c.verdict === 'broken');
  const named = broken.map(
    (c) =>
      `${c.id.split('/').at(-1)} (${Number(c.atFault).toLocaleString('en')} ${c.atFault === '1' ? 'row' : 'rows'})`,
  );
  return {
    message: `${broken.length === 1 ? 'a check is' : `${broken.length} checks are`} broken: ${named.join(', ')}`,
    hint: `${isAlone ? 'No table was loaded' : checks.some((c) => c.id.startsWith('checks/')) ? 'Tables downstream were not loaded' : 'The table is unchanged'}. The rows at fault are shown with the check.`,
  };
}
