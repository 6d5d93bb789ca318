import { remembering, forget } from '../warehouse/loaded.js';
import type { StepError } from '@ouvrage/api/run';
import { worst } from '@ouvrage/core/check';
import { compileFunction, type Hashing } from '@ouvrage/core/compile';
import { fingerprints, functionsOf } from '@ouvrage/core/graph';
import { stagedPlace, type Dependent, type SwapItem, targetPlace } from '@ouvrage/core/load';
import { renamedTables } from '@ouvrage/core/review';
import {
  type Definition,
  type Environment,
  type Place,
  type Project,
  type ReferenceTable,
  settingsOf,
  type SourceTable,
  type Table,
} from '@ouvrage/core/model';
import { literal, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import type { CheckOutcome } from '../load/check-outcome.js';
import { type Loader, loaderOn } from '../load/loader.js';
import { errorOfRows, traceRows } from '../load/trace.js';
import type { BuildKit } from '../run/build-kit.js';
import { dropEmpty, type Keeping, type KeptCopy, placesOf, PuttingBack } from './kept-copies.js';
import { type BaseSurroundings, planFrom } from '../run/load-base.js';
import { Run, type RunStep } from '../run/run.entities.js';
import type { StepJournal } from '../run/step-journal.js';
import {
  brokenError,
  checkName,
  didOf,
  LOAD_TIME,
  problemError,
  stoppedChecks,
  stoppedError,
} from '../run/step-results.js';
import { logger, Problem } from '../shared/problem.js';
import { intakeError, IntakeService } from '../source/intake.service.js';
import { keepsLanded } from '../source/source-rules.js';
import { stagedLanding } from '../source/landing.js';
import { LoadStopped, StatementFailed } from '../warehouse/load-errors.js';
import type { Clock } from '../warehouse/loaded.js';
import { stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

interface BuiltTable {
  readonly step: RunStep;
  readonly item: SwapItem;
  readonly rows: string | null;
  /** Of a source table: rows that left its system. */
  readonly rowsOut?: string;
  readonly checks: readonly CheckOutcome[];
  readonly loader: Loader;
  /** Of a table that keeps rows: when its load took place, and by which clock. */
  readonly when?: { readonly time: string; readonly clock: Clock; readonly hashing: Hashing | undefined };
  /** The copy that it is. */
  readonly copy?: KeptCopy;
}

/** What a release does beside building. */
export interface ReleaseMeans {
  readonly warehouse: WarehouseService;
  readonly intake: IntakeService;
  readonly kit: BuildKit;
  readonly journal: StepJournal;
  /** Keeps what is replaced or dropped; undefined where that is dropped for good. */
  readonly keeping: Keeping | undefined;
  /** A restore: what is put back, by table; what tables bear another name now. */
  readonly restore?: Restore;
}

/** What goes back by its copies. */
export interface Restore {
  readonly copies: ReadonlyMap<string, KeptCopy>;
  /** The present names of tables that have been renamed since, by the name that they get again. */
  readonly names: ReadonlyMap<string, string>;
  /** Where each of the tables was last: in production, or in its newest copy where it has gone since. */
  readonly lastPlaces: ReadonlyMap<string, Place>;
}

/** One release in one transaction: everything beside, checked, then swapped together. What it replaces is kept. */
export class ReleaseTransaction {
  readonly built = new Map<string, BuiltTable>();
  readonly dropped: string[] = [];
  /** What was dropped of workspaces', to be made again by its owner. */
  readonly gone: Dependent[] = [];
  /** Source tables brought in, with their newest watermark. */
  readonly broughtIn = new Map<string, string | null>();
  private failure?: {
    readonly step: RunStep;
    readonly loader: Loader;
    readonly checks: readonly CheckOutcome[];
    readonly error?: StepError;
  };
  private readonly checkSteps: { step: RunStep; outcome: CheckOutcome; loader: Loader }[] = [];

  constructor(
    private readonly run: Run,
    private readonly before: Project,
    private readonly after: Project,
    private readonly environment: Environment,
    private readonly client: pg.ClientBase,
    private readonly means: ReleaseMeans,
  ) {}

  /** What this release has built is read beside; all else where it is. */
  private readonly placeOf = (table: string): Place => {
    const found = this.after.tables.get(table)!;
    return this.built.has(table) ? stagedPlace(this.environment, found) : targetPlace(this.environment, found);
  };

  /** @returns false when a check is broken or a statement failed; the step says which */
  async build(steps: readonly RunStep[]): Promise<boolean> {
    const names = { placeOf: this.placeOf, functionsSchema: this.environment.schemaOf('functions') };
    for (const f of functionsOf(
      this.after,
      steps.map((s) => s.table),
    ))
      await this.client.query(compileFunction(this.after, f, names));
    const left = steps.filter((s) => s.state === 'waiting');
    const done = new Set<string>();
    while (left.length) {
      const i = left.findIndex((s) => s.waitsFor.every((w) => done.has(w)));
      const [step] = left.splice(Math.max(0, i), 1);
      this.means.journal.begin(this.run, step!);
      if (!(await this.stepDone(step!))) return false;
      done.add(step!.table);
    }
    return true;
  }

  private stepDone(step: RunStep): Promise<boolean> {
    switch (step.kind) {
      case 'check':
        return this.check(step);
      case 'intake':
        return this.bringIn(step);
      case 'load':
        return this.table(step);
    }
  }

  /** Puts the copy of a table beside its place. It is as it was: its checks run with its next load. */
  private async putBack(step: RunStep, table: Table, copy: KeptCopy): Promise<boolean> {
    const loader = loaderOn(this.client, this.environment);
    const [target, staged] = [targetPlace(this.environment, table), stagedPlace(this.environment, table)];
    const last = this.means.restore!.lastPlaces.get(table.fullName) ?? target;
    const back = new PuttingBack(this.client, this.environment, this.means.keeping);
    for (const sql of await back.put(copy, { target, staged, last }))
      loader.ran.push({ kind: 'swap', sql, milliseconds: 0, rows: null });
    const rows = copy.loaded?.['row_count'];
    this.built.set(table.fullName, {
      step,
      item: { target, staged, relation: 'table', ...(qualified(last) === qualified(target) ? {} : { formerly: last }) },
      rows: rows === null || rows === undefined ? null : String(rows as number),
      checks: [],
      loader,
      copy,
    });
    return true;
  }

  private async bringIn(step: RunStep): Promise<boolean> {
    const table = this.after.tables.get(step.table) as SourceTable;
    const copy = this.before.tables.has(step.table) ? undefined : this.means.restore?.copies.get(step.table);
    if (copy) return this.putBack(step, table, copy);
    const loader = loaderOn(this.client, this.environment);
    try {
      const isFile = this.after.servers.get(table.server)?.wrapper === 'file_fdw';
      const isKept = isFile || keepsLanded(this.before.tables.get(table.fullName), table);
      if (isKept) {
        // Files come by themselves, and what was brought in past a watermark is not brought in again: the release makes room for more.
        const item = await stagedLanding(this.client, loader, this.environment, table);
        this.built.set(table.fullName, { step, item, rows: null, checks: [], loader });
        return true;
      }
      const brought = await this.means.intake.bringStaged(this.client, loader, this.environment, table);
      this.built.set(table.fullName, {
        step,
        item: brought.item,
        rows: brought.in,
        rowsOut: brought.out,
        checks: [],
        loader,
      });
      this.broughtIn.set(table.fullName, brought.newest);
      return true;
    } catch (error) {
      const cause = error instanceof StatementFailed ? error.cause : error;
      this.failure = { step, loader, checks: [], error: { ...intakeError(cause, this.after), path: table.path } };
      return false;
    }
  }

  private async table(step: RunStep): Promise<boolean> {
    const table = this.after.tables.get(step.table)!;
    if (table.kind === 'source') return true;
    const copy = this.means.restore?.copies.get(step.table);
    if (copy) return this.putBack(step, table, copy);
    const loader = loaderOn(this.client, this.environment);
    try {
      await this.client.query('savepoint before_table');
      const former = this.before.tables.get(step.table);
      if (former) await this.means.keeping?.copyRemembered(targetPlace(this.environment, former));
      const bases = await this.bases();
      const when = (await this.means.kit.loadTimes(this.after, bases))(table.fullName);
      const treatment = this.run.request.release?.treatments?.[table.fullName];
      const plan = await planFrom(
        loader,
        {
          project: this.after,
          environment: this.environment,
          placeOf: this.placeOf,
          run: String(this.run.id),
          corrects: treatment === 'correct',
          ...when.plan,
        },
        table,
        // Of what a restore has no copy of, today's rows are others.
        { ...bases, startOver: treatment === 'start over' || this.means.restore !== undefined },
      );
      loader.inputs = this.placeOf;
      const { rows, checks } = await this.means.kit.makeAndCheck(loader, plan, this.after, 'others');
      // What is built over rows as they were is as it was: no check keeps production from going back.
      if (worst(checks.map((c) => c.verdict)) === 'broken' && !this.means.restore) {
        this.failure = { step, loader, checks };
        return false;
      }
      const time = plan.steps ? await this.loadTime() : undefined;
      await loader.swaps.finishStaged(plan);
      this.built.set(table.fullName, {
        step,
        item: plan,
        rows,
        checks,
        loader,
        ...(time === undefined ? {} : { when: { time, clock: when.clock, hashing: plan.hashing } }),
      });
      return true;
    } catch (error) {
      if (error instanceof LoadStopped || error instanceof Problem) {
        this.failure = {
          step,
          loader,
          checks: stoppedChecks(step.table, error),
          error: error instanceof Problem ? problemError(error) : stoppedError(error),
        };
        return false;
      }
      if (!(error instanceof StatementFailed)) throw error;
      const told = stepError(error.cause, this.after, error.statement.author);
      this.failure = { step, loader, checks: [], error: { ...told, ...(await this.traced(table, error)) } };
      return false;
    }
  }

  /** The rows that caused an error about a value; what this release has built so far is seen by its own transaction only. */
  private async traced(table: Definition | ReferenceTable, error: StatementFailed): Promise<Partial<StepError>> {
    const cause = errorOfRows(error);
    if (!cause || table.kind === 'reference') return {};
    try {
      await this.client.query('rollback to savepoint before_table');
      return await traceRows(
        this.client,
        {
          project: this.after,
          of: table,
          names: { placeOf: this.placeOf, functionsSchema: this.environment.schemaOf('functions') },
        },
        cause,
      );
    } catch (failure) {
      logger.warn(failure);
      return {};
    }
  }

  /** The time of the load that this transaction has just done. */
  private async loadTime(): Promise<string | undefined> {
    const { rows } = await this.client.query<{ time: string | null }>(`select ${LOAD_TIME} as time`);
    return rows[0]?.time ?? undefined;
  }

  /** A release builds everything beside, and stateful tables from a copy of what is there. */
  private async bases(): Promise<BaseSurroundings> {
    const loaded = await this.means.warehouse.loaded(this.environment);
    return {
      project: this.after,
      environment: this.environment,
      here: loaded,
      released: { project: this.before, environment: this.environment, loaded },
      staged: true,
    };
  }

  private async check(step: RunStep): Promise<boolean> {
    const loader = loaderOn(this.client, this.environment);
    const outcome = await this.means.kit.checkFile(loader, this.after, checkName(step.table), {
      placeOf: this.placeOf,
      functionsSchema: this.environment.schemaOf('functions'),
      settings: settingsOf(this.after),
    });
    if (outcome.verdict === 'broken' && !this.means.restore) {
      this.failure = { step, loader, checks: [outcome] };
      return false;
    }
    this.checkSteps.push({ step, outcome, loader });
    return true;
  }

  async swap(): Promise<void> {
    const loader = loaderOn(this.client, this.environment);
    const items: SwapItem[] = [...this.built.values()].map((b) => b.item);
    const gone = [...this.before.tables.values()].filter((t) => !this.after.tables.has(t.fullName));
    this.dropped.push(...gone.map((t) => t.fullName));
    const { keeping, restore } = this.means;
    if (keeping) await this.listKept(keeping, gone);
    await loader.swaps.swap(items, {
      dropped: gone.flatMap((t) => placesOf(targetPlace(this.environment, t))),
      ...(keeping ? { keptIn: keeping.keptIn } : {}),
    });
    const prints = fingerprints(this.after);
    for (const [table, { rows, when, copy }] of this.built) {
      if (copy) {
        await new PuttingBack(this.client, this.environment, keeping).remember(copy);
        continue;
      }
      const time = when && { ...when, time: literal(when.time) };
      await this.client.query(
        remembering(this.environment, table, {
          fingerprint: prints.get(table)!,
          rows,
          runId: this.run.id,
          ...time,
        }),
      );
    }
    await forget(this.client, this.environment, this.dropped);
    if (restore)
      await dropEmpty(
        this.client,
        this.environment,
        [...restore.copies.values()].map((c) => c.place.schema),
      );
    this.gone.push(...loader.swaps.gone);
    const last = [...this.built.values()].at(-1);
    last?.loader.ran.push(...loader.ran);
  }

  /** Lists what the swap keeps: what was under the names of what is built, and what goes. */
  private async listKept(keeping: Keeping, gone: readonly Table[]): Promise<void> {
    const was = renamedTables(this.before, this.after);
    const replaced = [...this.built.keys()].flatMap((name) => this.before.tables.get(was.get(name) ?? name) ?? []);
    const kept = new Map([...replaced, ...gone].map((t) => [t.fullName, t]));
    await keeping.list([...kept.values()].map((t) => ({ table: t.fullName, place: targetPlace(this.environment, t) })));
  }

  recordSuccess(): void {
    for (const { step, rows, rowsOut, checks, loader, when } of this.built.values()) {
      const change = {
        state: 'done',
        statements: loader.ran,
        rowsIn: rows,
        ...didOf(loader, when?.clock),
        ...(rowsOut === undefined ? {} : { rowsOut }),
      } as const;
      this.means.journal.end(this.run, step, change, checks);
    }
    for (const { step, outcome, loader } of this.checkSteps)
      this.means.journal.end(this.run, step, { state: 'done', statements: loader.ran }, [outcome]);
  }

  /** Results are recorded, so that the rows at fault can be seen; nothing of the warehouse changed. */
  recordFailure(steps: readonly RunStep[]): void {
    const failed = this.failure;
    for (const step of steps) {
      const built = this.built.get(step.table);
      if (step.id === failed?.step.id) {
        const { loader, checks, error } = failed;
        this.means.journal.end(
          this.run,
          step,
          { state: 'failed', statements: loader.ran, error: error ?? brokenError(checks) },
          checks,
        );
      } else if (built)
        this.means.journal.end(this.run, step, {
          state: 'blocked',
          statements: built.loader.ran,
          rowsIn: built.rows,
          error: { message: 'built and checked, but not swapped in: the release failed' },
        });
      else this.means.journal.end(this.run, step, { state: 'blocked' });
    }
  }
}
