import { loaderOn, type NextOfLoad } from '../load/loader.js';
import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { readThroughViews } from '@ouvrage/core/assist';
import { queryCheck, queryCheckStatements, verdictOf, worst } from '@ouvrage/core/check';
import { compileText } from '@ouvrage/core/compile';
import { fingerprints, functionsOf } from '@ouvrage/core/graph';
import { SESSION_SETTINGS, targetPlace, type LoadPlan, type PlanContext } from '@ouvrage/core/load';
import { settingsOf, type Environment, type Place, type Project } from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { lineColumn, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { PRODUCTION, ProjectService } from '../project/project.service.js';
import { Config } from '../shared/config.js';
import { logger, Problem } from '../shared/problem.js';
import { LoadStopped, StatementFailed } from '../warehouse/load-errors.js';
import { policyOutcome, type CheckOutcome } from '../load/check-outcome.js';
import type { Loader } from '../load/loader.js';
import { FAULT_ROWS } from '../warehouse/statements.js';
import { stepError } from '../warehouse/sql-error.js';
import type { Standing } from '../warehouse/loaded.js';
import { takeBack, WarehouseService } from '../warehouse/warehouse.service.js';
import type { StepError } from '@ouvrage/api/run';
import type { Run, RunStep } from './run.entities.js';
import { ClockService } from './clock.service.js';
import { type Clock } from '../warehouse/loaded.js';
import { planFrom, type BaseSurroundings } from './load-base.js';
import { checkLongDates } from './reference-dates.js';
import { RunService } from './run.service.js';
import { StepJournal } from './step-journal.js';
import { errorOfRows, traceRows } from '../load/trace.js';

/** All that the steps of one run share. */
interface BuildContext {
  readonly run: Run;
  readonly project: Project;
  readonly environment: Environment;
  readonly standings: ReadonlyMap<string, Standing>;
  readonly bases: BaseSurroundings;
  /** When a table's load takes place. */
  readonly times: (table: string) => LoadTime;
  /** Tables that this run has built. */
  readonly built: Set<string>;
  readonly placeOf: (table: string) => Place;
  readonly parameters: ReadonlyMap<string, string>;
}

/** Runs builds: tables in dependency order, in parallel, each with its checks in one transaction. */
@Injectable()
export class BuildService implements OnModuleInit {
  constructor(
    @Inject(Config) private readonly config: Config,
    private readonly runs: RunService,
    private readonly journal: StepJournal,
    private readonly clock: ClockService,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
  ) {}

  onModuleInit(): void {
    this.runs.register('build', (run, steps, signal) => this.build(run, steps, signal));
  }

  private async context(run: Run): Promise<BuildContext> {
    const project = await this.projects.projectAt(run.commit, run.request.drafts);
    const workspace = run.environment === PRODUCTION ? undefined : await this.projects.workspace(run.environment);
    const environment = this.projects.environmentOf(workspace);
    await this.warehouse.prepare(environment, schemaNames(project.layers, project.tables.values()));
    const standings = await this.warehouse.standings(project, environment, this.projects.environmentOf(undefined));
    const built = new Set<string>();
    const placeOf = (table: string): Place => {
      const found = project.tables.get(table);
      const standing = standings.get(table);
      if (!found) throw new Error(`${table} is not a table of the project`);
      if (built.has(table) || !standing?.place) return targetPlace(environment, found);
      return standing.place;
    };
    const bases = await this.bases(project, environment);
    return {
      run,
      project,
      environment,
      standings,
      bases,
      built,
      placeOf,
      times: await this.loadTimes(project, bases),
      parameters: new Map(Object.entries(run.request.parameters)),
    };
  }

  private async bases(project: Project, environment: Environment): Promise<BaseSurroundings> {
    const released = this.projects.environmentOf(undefined);
    const { project: releasedProject } = await this.projects.line(PRODUCTION);
    const loaded = await this.warehouse.loaded(released);
    const here = environment.kind === 'production' ? loaded : await this.warehouse.loaded(environment);
    return {
      project,
      environment,
      here,
      released: { project: releasedProject, environment: released, loaded },
      beside: false,
    };
  }

  private async build(run: Run, steps: RunStep[], signal: AbortSignal): Promise<'succeeded' | 'failed' | 'stopped'> {
    const context = await this.context(run);
    const names = (kind: RunStep['kind']) => steps.filter((s) => s.kind === kind).map((s) => s.table);
    await this.makeFunctions(context, names('load'), names('check').map(checkName));
    const waiting = new Map(steps.filter((s) => s.state === 'waiting').map((s) => [s.table, s]));
    const ended = new Map<string, 'done' | 'bad'>(
      steps.filter((s) => s.state === 'reused').map((s) => [s.table, 'done']),
    );
    const known = new Set(steps.map((s) => s.table));
    let failed = false;
    const active = new Set<Promise<void>>();
    const parallelism = Math.max(1, Math.min(16, run.request.parallelism || this.config.atATime));
    const startReady = (): void => {
      for (const [name, step] of waiting) {
        if (step.waitsFor.some((w) => ended.get(w) === 'bad')) {
          waiting.delete(name);
          ended.set(name, 'bad');
          this.journal.end(run, step, {
            state: 'blocked',
            error: {
              message: `not run: ${step.waitsFor.filter((w) => ended.get(w) === 'bad').join(', ')} did not end well`,
            },
          });
          return startReady();
        }
        if (
          signal.aborted ||
          active.size >= parallelism ||
          step.waitsFor.some((w) => known.has(w) && ended.get(w) !== 'done')
        )
          continue;
        waiting.delete(name);
        const work = this.step(context, step, signal).then((well) => {
          ended.set(name, well ? 'done' : 'bad');
          if (!well) failed = true;
          active.delete(work);
        });
        active.add(work);
      }
    };
    startReady();
    while (active.size) {
      await Promise.race(active);
      startReady();
    }
    for (const step of waiting.values()) this.journal.end(run, step, { state: signal.aborted ? 'stopped' : 'blocked' });
    return signal.aborted ? 'stopped' : failed ? 'failed' : 'succeeded';
  }

  /** The project's functions that tables and files of checks use, in the environment's own schema. */
  private async makeFunctions(
    { project, environment }: BuildContext,
    tables: Iterable<string>,
    checks: Iterable<string> = [],
  ): Promise<void> {
    const names = {
      placeOf: (t: string) => targetPlace(environment, project.tables.get(t)!),
      functionsSchema: environment.schemaOf('functions'),
    };
    const functions = functionsOf(
      project,
      tables,
      [...checks].flatMap((name) => project.checks.get(name)?.query ?? []),
    );
    await this.warehouse.makeFunctions(environment, project, functions, names);
  }

  /** One step on one connection. @returns whether what waits for it may start */
  private async step(context: BuildContext, step: RunStep, signal: AbortSignal): Promise<boolean> {
    const { run, environment } = context;
    this.journal.begin(run, step);
    const role = this.warehouse.builder(environment);
    const client = await this.warehouse.connect(role);
    const stop = () => void this.warehouse.cancel(role, client);
    signal.addEventListener('abort', stop);
    const loader = loaderOn(client, environment);
    try {
      if (signal.aborted) throw new Error('stopped');
      loader.begin();
      const well =
        step.kind === 'check'
          ? await this.runCheck(context, step, loader)
          : await this.load(context, step, client, loader);
      client.release();
      await this.warehouse.remake(loader.swaps.gone);
      return well;
    } catch (error) {
      await takeBack(client);
      const stopped = signal.aborted;
      const told = stopped
        ? { message: 'stopped; the table is as it was' }
        : { ...this.told(context, error), ...(await this.traced(context, step, error)) };
      const change = { state: stopped ? 'stopped' : 'failed', statements: loader.ran, error: told } as const;
      this.journal.end(run, step, change, stopped ? [] : stoppedChecks(step.table, error));
      return false;
    } finally {
      signal.removeEventListener('abort', stop);
    }
  }

  /** The rows that caused an error about a value. */
  private async traced(context: BuildContext, step: RunStep, error: unknown): Promise<Partial<StepError>> {
    const { project, environment, placeOf, parameters } = context;
    const of = step.kind === 'check' ? project.checks.get(checkName(step.table)) : project.tables.get(step.table);
    const cause = errorOfRows(error);
    if (!cause || !of || !('query' in of)) return {};
    try {
      // Views that are production's are looked into, too.
      await this.makeFunctions(context, readThroughViews(project, of));
      const client = await this.warehouse.connect(this.warehouse.builder(environment));
      try {
        await client.query('begin');
        const settings = settingsOf(project, parameters);
        return await traceRows(
          client,
          { project, of, names: { placeOf, functionsSchema: environment.schemaOf('functions'), settings } },
          cause,
        );
      } finally {
        await takeBack(client);
      }
    } catch (failure) {
      logger.warn(failure);
      return {};
    }
  }

  private told({ project }: BuildContext, error: unknown): StepError {
    if (error instanceof LoadStopped) return stoppedError(error);
    if (error instanceof Problem) return problemError(error);
    if (error instanceof StatementFailed) return stepError(error.cause, project, error.statement.author);
    return stepError(error, project);
  }

  private async load(context: BuildContext, step: RunStep, client: pg.PoolClient, loader: Loader): Promise<boolean> {
    const { run, project, environment, placeOf, parameters } = context;
    const table = project.tables.get(step.table)!;
    if (table.kind === 'source') throw new Error(`${table.fullName} is brought in, not built`);
    refuseEffects(project, table.path);
    const over = run.request.startOver?.includes(table.fullName);
    const when = context.times(table.fullName);
    const planned = await planFrom(
      loader,
      { project, environment, placeOf, parameters, run: String(run.id), ...when.plan },
      table,
      {
        ...context.bases,
        startOver: over,
      },
    );
    loader.inputs = placeOf;
    const { plan, rows, checks } = await this.makeAndCheck(loader, planned, project, 'swap');
    if (worst(checks.map((c) => c.verdict)) === 'broken') {
      await client.query('rollback');
      this.journal.end(
        run,
        step,
        { state: 'failed', statements: loader.ran, rowsIn: rows, error: brokenError(checks) },
        checks,
      );
      return false;
    }
    await this.putInPlace(loader, plan, [
      this.warehouse.remembering(environment, table.fullName, {
        fingerprint: fingerprints(project).get(table.fullName)!,
        rows,
        runId: run.id,
        ...(plan.steps ? { time: LOAD_TIME, clock: when.clock, hashing: plan.hashing } : {}),
      }),
      'commit',
    ]);
    context.built.add(table.fullName);
    this.journal.end(
      run,
      step,
      { state: 'done', statements: loader.ran, rowsIn: rows, ...didOf(loader, plan.steps ? when.clock : undefined) },
      checks,
    );
    return true;
  }

  /**
   * When loads take place: by the clock that a table was first loaded with, and always later than its last load.
   * @throws Problem, when asked of a table, where that clock has gone back since
   */
  async loadTimes(project: Project, { here, released }: BaseSurroundings): Promise<(table: string) => LoadTime> {
    const harbour = await this.clock.harbour();
    const clockOf = await this.clock.clocks(project);
    return (table) => {
      const last = here.get(table) ?? released.loaded.get(table);
      const clock = harbour === undefined ? 'real' : (last?.clock ?? clockOf(table));
      const now = clock === 'stand-in' ? harbour! : new Date();
      if (last?.loadTime !== undefined && Date.parse(last.loadTime) - now.getTime() > CLOCK_SLACK_MILLISECONDS)
        throw new Problem(
          409,
          'clock-behind',
          `${table} was last loaded at ${last.loadTime}, and the ${clock === 'real' ? 'real' : 'demo'} clock says ${now.toISOString()}`,
          'Set the clock right, or start the table over.',
        );
      return {
        clock,
        plan: {
          ...(clock === 'stand-in' ? { time: harbour!.toISOString() } : {}),
          ...(last?.loadTime === undefined ? {} : { lastTime: last.loadTime }),
        },
      };
    };
  }

  /** Makes one table beside and runs its checks; shared with releases, where all swaps come last. */
  async makeAndCheck(
    loader: Loader,
    plan: LoadPlan,
    project: Project,
    next: NextOfLoad,
  ): Promise<{ plan: LoadPlan; rows: string | null; checks: CheckOutcome[] }> {
    const table = project.tables.get(plan.table)!;
    if (table.kind !== 'reference') return loader.makeBeside(plan, { next });
    const { text } = project.files.get(table.csvPath)!;
    await checkLongDates(table, text);
    return loader.makeBeside(plan, { csv: text, next });
  }

  /** @param closing statements that end the transaction once the table is in its place */
  private async putInPlace(loader: Loader, plan: LoadPlan, closing: readonly string[]): Promise<void> {
    if (!plan.swaps) return loader.conclude(closing);
    if (plan.relation === 'table') return loader.finishAndSwap(plan, closing);
    await loader.swaps.finishBeside(plan);
    if (await loader.swaps.sameView(plan)) await loader.swaps.dropBeside(plan);
    else await loader.swaps.swap([plan]);
    await loader.conclude(closing);
  }

  private async runCheck(context: BuildContext, step: RunStep, loader: Loader): Promise<boolean> {
    const { run, project, environment, placeOf, parameters } = context;
    const outcome = await this.checkFile(loader, project, checkName(step.table), {
      placeOf,
      functionsSchema: environment.schemaOf('functions'),
      settings: settingsOf(project, parameters),
    });
    await loader.conclude(['commit']);
    const broken = outcome.verdict === 'broken';
    const change = {
      state: broken ? 'failed' : 'done',
      statements: loader.ran,
      ...(broken ? { error: brokenError([outcome]) } : {}),
    } as const;
    this.journal.end(run, step, change, [outcome]);
    return !broken;
  }

  /** Runs one file of checks/; shared with releases. */
  async checkFile(
    loader: Loader,
    project: Project,
    name: string,
    names: Parameters<typeof compileText>[3],
  ): Promise<CheckOutcome> {
    const file = project.checks.get(name)!;
    refuseEffects(project, file.path);
    const check = queryCheck(file);
    const compiled = compileText(project.files.get(file.path)!, file.query, file.query, names);
    const sql = queryCheckStatements(compiled.text, FAULT_ROWS);
    const head = sql.count.indexOf(compiled.text);
    // Taken back with the savepoint, as nothing else can make a transaction write again.
    await loader.run({
      kind: 'session',
      sql: [...SESSION_SETTINGS, 'savepoint before_check', 'set local transaction_read_only = on'].join(';\n'),
    });
    const { rows } = await loader.run({
      kind: 'check',
      sql: sql.count,
      author: { path: file.path, original: (o) => compiled.original(Math.max(0, o - head)) },
    });
    const atFault = String((rows[0] as { c0: string }).c0);
    const place = check.about === undefined ? undefined : names.placeOf(check.about);
    const total =
      atFault !== '0' && place
        ? String(
            (
              (await loader.run({ kind: 'check', sql: `select count(*) as total from ${qualified(place)}` }))
                .rows[0] as { total: string }
            ).total,
          )
        : null;
    const faults = atFault === '0' ? null : await loader.faultRows(sql.rows);
    await loader.run({ kind: 'session', sql: 'rollback to savepoint before_check' });
    return {
      id: check.id,
      table: check.about ?? check.reads[0] ?? '',
      verdict: verdictOf(check, Number(atFault), total === null ? undefined : Number(total)),
      atFault,
      total,
      sql: sql.rows,
      rows: faults,
    };
  }
}

/** @throws Problem for a file in which something does more than read: it is not run */
function refuseEffects(project: Project, path: string): void {
  const found = project.diagnostics.find((d) => d.code === 'not-only-reading' && d.path === path);
  if (!found) return;
  const { line } = lineColumn(project.files.get(path)!.text, found.range.start);
  throw new Problem(422, 'not-only-reading', `${path}, line ${line}: ${found.message}`, found.hint);
}

/** How far a clock may be behind the last load: clocks are set, and nothing shows. */
const CLOCK_SLACK_MILLISECONDS = 60_000;
/** The load's time as its transaction has it. */
export const LOAD_TIME = `nullif(current_setting('load.time', true), '')`;

/** When a load takes place. */
export interface LoadTime {
  readonly clock: Clock;
  readonly plan: Pick<PlanContext, 'time' | 'lastTime'>;
}

/** The name of a file of checks/ that a step runs. */
const checkName = (step: string): string => step.slice('checks/'.length);

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
  return { message, rows, hint: `${hint === undefined ? '' : `${hint} `}The table is as it was.` };
}

export function brokenError(checks: readonly CheckOutcome[]): StepError {
  const broken = checks.filter((c) => c.verdict === 'broken');
  const named = broken.map(
    (c) =>
      `${c.id.split('/').at(-1)} (${Number(c.atFault).toLocaleString('en')} ${c.atFault === '1' ? 'row' : 'rows'})`,
  );
  return {
    message: `${broken.length === 1 ? 'a check is' : `${broken.length} checks are`} broken: ${named.join(', ')}`,
    hint: `${checks.some((c) => c.id.startsWith('checks/')) ? 'What is downstream was not loaded' : 'The table is as it was'}. The rows at fault are with the check.`,
  };
}
