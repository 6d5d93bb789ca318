import type { Guard, LoadStatement, LoadStep } from '../../compile/steps.js';
import { unreachable } from '../../model/unreachable.js';
import { boundNote } from '../append/bound-plan.js';

/** One row of an answer, its values as the driver gives them: booleans and numbers may be texts. */
export type AnswerRow = Readonly<Record<string, unknown>>;

/** A statement that failed: the database's code, and the error to stop with. */
export interface Failure {
  readonly code: string | undefined;
  readonly error: unknown;
}

/** What runs the steps of a load: a connection in a transaction of its own, and somebody who listens. */
export interface StepHost {
  /** Runs a statement whose rows nobody looks at. */
  run(statement: LoadStatement): Promise<unknown>;
  /** Asks a question. @returns its rows */
  ask(sql: string): Promise<readonly AnswerRow[]>;
  /** Runs a statement so that the transaction goes on where it fails. @returns how it failed; undefined where all went well */
  attempt(sql: string): Promise<Failure | undefined>;
  /** The error by which a guard that found rows stops the load. */
  stopped(guard: Guard, found: readonly AnswerRow[]): Promise<Error> | Error;
  /** A guard has found nothing; those that were asked together with it neither. */
  held?(guard: Guard): void;
  /** What the load says of itself: how far a bound reaches, which shape it chose. */
  noted?(note: string): void;
  /** The table is remade beside, or changed in its place. */
  chosen?(isAnew: boolean): void;
  /** A count, and the query of some of these rows, where that costs little. */
  counted?(name: string, n: number, rows: string | undefined): Promise<void> | void;
}

/** Of an answer of one row: whether a column is true, as a boolean or as PostgreSQL writes it. */
const isTrue = (row: AnswerRow | undefined, name: string): boolean => String(row?.[name]).startsWith('t');

/** Codes of errors of keys that are null or there twice: guards tell which rows have them. */
const FAULTY_KEYS: readonly (string | undefined)[] = ['23502', '23505'];

/**
 * Runs the steps of a load in their order. The server, the benches and the tests all load through it.
 * @throws what `stopped` makes of a guard that found rows, or the database's own error
 */
export async function runSteps(steps: readonly LoadStep[], host: StepHost): Promise<void> {
  for (const step of steps) {
    switch (step.step) {
      case 'run':
        await host.run(step);
        break;
      case 'guard': {
        const found = await host.ask(step.sql);
        if (found.length === 0) {
          host.held?.(step);
          break;
        }
        // Several guards in one question: the first of them that finds something says what.
        await runSteps(step.asks ?? [], host);
        throw await host.stopped(step, found);
      }
      case 'prove': {
        const failure = await host.attempt(step.sql);
        if (failure) {
          if (FAULTY_KEYS.includes(failure.code)) await runSteps(step.guards, host);
          throw failure.error;
        }
        for (const guard of step.guards) host.held?.(guard);
        break;
      }
      case 'explain':
        host.noted?.(boundNote((await host.ask(step.sql))[0]!['QUERY PLAN']));
        break;
      case 'when':
        if (isTrue((await host.ask(step.sql))[0], 'needed')) await runSteps(step.steps, host);
        break;
      case 'either':
        await runSteps(isTrue((await host.ask(step.sql))[0], 'holds') ? step.then : step.otherwise, host);
        break;
      case 'choose': {
        const [row] = await host.ask(step.sql);
        const isAnew = isTrue(row, 'rewrite');
        host.noted?.(String(row?.['note'] ?? ''));
        host.chosen?.(isAnew);
        await runSteps(isAnew ? step.rewrite : step.inPlace, host);
        break;
      }
      case 'count': {
        const [row = {}] = await host.ask(step.sql);
        for (const [name, n] of Object.entries(row)) await host.counted?.(name, Number(n), step.rows[name]);
        break;
      }
      default:
        unreachable(step);
    }
  }
}
