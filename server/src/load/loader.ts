import { STATE_LAYER } from '../warehouse/loaded.js';

import { holding } from '../warehouse/locks.js';
import { rowsStatement } from '@ouvrage/core/check';
import { runSteps, type AnswerRow, type LoadPlan, type StepHost } from '@ouvrage/core/load';
import type { Place, Environment } from '@ouvrage/core/model';
import { qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import type { FaultRows } from '@ouvrage/api/rows';
import { countedOutcomes, policyOutcome, shownRows, type CheckOutcome } from './check-outcome.js';
import { codeOf, LoadStopped } from '../warehouse/load-errors.js';
import { FAULT_ROWS, Statements } from '../warehouse/statements.js';
import { Swaps } from './swaps.js';

/** What follows a load: the table is moved into its place at once, or later with others. */
export type NextOfLoad = 'swap' | 'others';

/** From this many rows on, people want to know how long each index took. */
const LARGE = 100_000;

/** Runs the statements of loads on one connection, in a transaction that the caller begins and ends, and keeps what ran. */
export class Loader extends Statements {
  readonly swaps: Swaps;

  /** @param swapLock a statement that holds the lock of swaps, where there is one */
  constructor(client: pg.ClientBase, swapLock?: string) {
    super(client);
    this.swaps = new Swaps(this, swapLock);
  }

  /**
   * Makes and fills the table, and runs its checks.
   * @param csv the text of a reference table
   * @param next what comes next: a small table that is moved into its place may be finished with the checks
   * @returns the plan as it is, the table having been changed in its place or made beside; rows of the table; the checks' outcomes
   */
  async makeStaged(
    plan: LoadPlan,
    { csv, next }: { readonly csv?: string; readonly next: NextOfLoad },
  ): Promise<{ plan: LoadPlan; rows: string | null; checks: CheckOutcome[] }> {
    this.settings(plan.session.filter((s) => !s.author).map((s) => s.sql));
    // What an author sets may be refused.
    for (const statement of plan.session.filter((s) => s.author)) await this.run(statement);
    let built: number | null | undefined;
    for (const statement of plan.build) built = (await this.runInTurn(statement))?.rowCount;
    if (plan.copySql !== undefined) await this.copy(plan.copySql, csv ?? '');
    await runSteps(plan.steps ?? [], this.host);
    const standing = this.writtenAnew && plan.rewritten ? { ...plan, ...plan.rewritten, swaps: true } : plan;
    const finishesToo =
      next === 'swap' && plan.swaps && !plan.steps && plan.relation === 'table' && isQuick(plan, built);
    const { rows, checks } = await this.check(standing, (question) =>
      finishesToo ? this.swaps.askAndFinish(question, plan) : this.plain('check', question),
    );
    this.total = Number(rows ?? 0);
    if (!plan.swaps) this.countUnchanged(this.total);
    const guarded = [...this.guarded].map(([name, sql]) => policyOutcome(plan.table, name, sql, null));
    return { plan: standing, rows, checks: [...guarded, ...checks] };
  }

  /** Rows of the table that was made. */
  private total = 0;

  /** Of a table that was there before: its rows that this load did not touch. */
  private countUnchanged(total: number): void {
    const { inserted, updated = 0, replaced = 0, flagged = 0 } = this.counts;
    if (inserted !== undefined) this.counts['unchanged'] = total - inserted - updated - replaced - flagged;
  }

  /** Checks of the policy that held, with the statement that found no row. */
  private readonly guarded = new Map<string, string>();
  private writtenAnew = false;
  /** Why the load took the shape that it took. */
  note: string | undefined;

  /** What the steps of the load counted. */
  readonly counts: Record<string, number> = {};
  /** Some rows of each kind that the load counted. */
  readonly kinds: Record<string, FaultRows> = {};

  /** How the steps of a load run on this connection. */
  private readonly host: StepHost = {
    run: (statement) => this.runInTurn(statement),
    ask: async (sql) => (await this.plain('check', sql)).rows as AnswerRow[],
    attempt: async (sql) => {
      this.savepoint('before_attempt');
      try {
        await this.plain('constraint', sql);
        return undefined;
      } catch (error) {
        await this.client.query('rollback to savepoint before_attempt');
        return { code: codeOf(error), error };
      }
    },
    stopped: async ({ message, hint, rows, sql, check }) =>
      new LoadStopped(message, hint, shownRows(await this.faultRows(rows ?? sql)), check && { name: check, sql }),
    held: ({ sql, check, asks = [] }) => {
      for (const name of [check, ...asks.map((a) => a.check)]) if (name !== undefined) this.guarded.set(name, sql);
    },
    noted: (note) => (this.note = note),
    chosen: (isAnew) => (this.writtenAnew = isAnew),
    counted: async (name, n, rowsOf) => {
      this.counts[name] = (this.counts[name] ?? 0) + n;
      if (n !== 0 && rowsOf !== undefined) this.kinds[name] = shownRows(await this.faultRows(rowsOf));
    },
  };

  /** @param ask asks a question of the table that was made */
  private async check(
    plan: LoadPlan,
    ask: (question: string) => Promise<pg.QueryResult>,
  ): Promise<{ rows: string | null; checks: CheckOutcome[] }> {
    const { rows } = await ask(plan.countSql ?? `select count(*) as total from ${qualified(plan.staged)}`);
    const counts = rows[0] as Record<string, string>;
    const placeOf = this.placeOfChecks(plan);
    const checks = await countedOutcomes(plan.checks, counts, {
      find: (check) => this.faultRows(rowsStatement(check, placeOf, FAULT_ROWS)),
      // What is kept for people reads the table in its place: the staged copy is gone by then.
      kept: (check) =>
        rowsStatement(check, (table) => (table === plan.table ? plan.target : placeOf(table)), FAULT_ROWS),
    });
    return { rows: counts['total']!, checks };
  }

  /** Finishes a table beside and moves it into place. @param closing statements that end the transaction once it is there */
  finishAndSwap(plan: LoadPlan, closing: readonly string[]): Promise<void> {
    return this.swaps.finishAndSwap(plan, { together: isQuick(plan, this.total), closing });
  }

  /** The places that the count statement was made with. */
  private placeOfChecks(plan: LoadPlan): (table: string) => Place {
    return (table) => (table === plan.table ? plan.staged : this.inputs!(table));
  }

  /** Where other tables are read; set by who plans. */
  inputs?: (table: string) => Place;
}

/** Whether a table is finished so fast that its statements go in one message. Those of an author go alone, so that an error is theirs. @param rows of the table, if known */
const isQuick = (plan: LoadPlan, rows: number | null | undefined): boolean =>
  (rows ?? LARGE) < LARGE && !plan.finish.some((s) => s.author);

/** What runs loads and swaps of an environment on a connection. */
export const loaderOn = (client: pg.ClientBase, environment: Environment): Loader =>
  new Loader(client, environment.kind === 'production' ? holding(STATE_LAYER, 'swap') : undefined);
