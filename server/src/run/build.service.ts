import { remembering } from '../warehouse/loaded.js';
import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import type { StepError } from '@ouvrage/api/run';
import { readThroughViews } from '@ouvrage/core/assist';
import { worst } from '@ouvrage/core/check';
import { fingerprints } from '@ouvrage/core/graph';
import { type LoadPlan, targetPlace } from '@ouvrage/core/load';
import { type Environment, type Place, type Project, settingsOf } from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import type pg from 'pg';
import { type Loader, loaderOn } from '../load/loader.js';
import { errorOfRows, traceRows } from '../load/trace.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Config } from '../shared/config.js';
import { logger, Problem } from '../shared/problem.js';
import { LoadStopped, StatementFailed } from '../warehouse/load-errors.js';
import type { Standing } from '../warehouse/loaded.js';
import { stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { BuildKit, type LoadTime, refuseEffects } from './build-kit.js';
import { checkStandings } from './check-standings.js';
import { type BaseSurroundings, planFrom } from './load-base.js';
import type { Run, RunStep } from './run.entities.js';
import { RunService } from './run.service.js';
import { StepJournal } from './step-journal.js';
import {
  brokenError,
  checkName,
  didOf,
  isCheckFile,
  LOAD_TIME,
  problemError,
  stoppedChecks,
  stoppedError,
} from './step-results.js';

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

/** Runs builds: tables in dependency order, in parallel, each with its checks in one transaction; and checks alone. */
@Injectable()
export class BuildService implements OnModuleInit {
  constructor(
    @Inject(Config) private readonly config: Config,
    private readonly runs: RunService,
    private readonly journal: StepJournal,
    private readonly kit: BuildKit,
    readonly projects: ProjectService,
    readonly warehouse: WarehouseService,
  ) {}

  onModuleInit(): void {
    this.runs.register('build', (run, steps, signal) => this.build(run, steps, signal));
    this.runs.register('check', (run, steps, signal) => this.build(run, steps, signal));
    this.projects.afterCommit.push((person, slug) => this.runs.checkChanges(person, slug));
  }

  private async context(run: Run): Promise<BuildContext> {
    const project = await this.projects.projectAt(run.commit, run.request.drafts);
    const workspace = run.environment === PRODUCTION ? undefined : await this.projects.workspace(run.environment);
    const environment = this.projects.environmentOf(workspace);
    await this.warehouse.prepare(environment, schemaNames(project.layers, project.tables.values()));
    const standings =
      run.kind === 'check'
        ? await checkStandings(this, { project, environment })
        : await this.warehouse.standings(project, environment, this.projects.environmentOf(undefined));
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
      times: await this.kit.loadTimes(project, bases),
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
      staged: false,
    };
  }

  private async build(run: Run, steps: RunStep[], signal: AbortSignal): Promise<'succeeded' | 'failed' | 'stopped'> {
    const context = await this.context(run);
    const names = (kind: RunStep['kind']) => steps.filter((s) => s.kind === kind).map((s) => s.table);
    const checks = names('check');
    await this.kit.makeFunctions(
      context,
      [...names('load'), ...checks.filter((name) => !isCheckFile(name))],
      checks.filter(isCheckFile).map(checkName),
    );
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
              message: `not run: ${step.waitsFor.filter((w) => ended.get(w) === 'bad').join(', ')} failed`,
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

  /** One step on one connection. @returns whether what waits for it may start */
  private async step(context: BuildContext, step: RunStep, signal: AbortSignal): Promise<boolean> {
    const { run, environment } = context;
    this.journal.begin(run, step);
    const role = this.warehouse.builder(environment);
    let loader: Loader | undefined;
    const work = async (client: pg.ClientBase): Promise<boolean> => {
      if (signal.aborted) throw new Error('stopped');
      loader = loaderOn(client, environment);
      loader.begin();
      return step.kind === 'check' ? this.runCheck(context, step, loader) : this.load(context, step, client, loader);
    };
    try {
      const well = await this.warehouse.session(role, work, signal);
      await this.warehouse.remake(loader!.swaps.gone);
      return well;
    } catch (error) {
      const stopped = signal.aborted;
      const told = stopped
        ? { message: 'stopped; the table is unchanged' }
        : { ...this.told(context, error), ...(await this.traced(context, step, error)) };
      const change = { state: stopped ? 'stopped' : 'failed', statements: loader?.ran ?? [], error: told } as const;
      this.journal.end(run, step, change, stopped ? [] : stoppedChecks(step.table, error));
      return false;
    }
  }

  /** The rows that caused an error about a value. */
  private async traced(context: BuildContext, step: RunStep, error: unknown): Promise<Partial<StepError>> {
    const { project, environment, placeOf, parameters } = context;
    // Checks of a table read its rows as they are: none of its inputs can be the cause.
    if (step.kind === 'check' && !isCheckFile(step.table)) return {};
    const of = step.kind === 'check' ? project.checks.get(checkName(step.table)) : project.tables.get(step.table);
    const cause = errorOfRows(error);
    if (!cause || !of || !('query' in of)) return {};
    try {
      // Views that are production's are looked into, too.
      await this.kit.makeFunctions(context, readThroughViews(project, of));
      const settings = settingsOf(project, parameters);
      const names = { placeOf, functionsSchema: environment.schemaOf('functions'), settings };
      return await this.warehouse.trial(this.warehouse.builder(environment), async (client) => {
        await client.query('begin');
        return traceRows(client, { project, of, names }, cause);
      });
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

  private async load(context: BuildContext, step: RunStep, client: pg.ClientBase, loader: Loader): Promise<boolean> {
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
    const { plan, rows, checks } = await this.kit.makeAndCheck(loader, planned, project, 'swap');
    const broken = worst(checks.map((c) => c.verdict)) === 'broken' ? brokenError(checks) : undefined;
    const stop = broken ?? (await this.kit.stopOf(environment, table, rows));
    if (stop) {
      await client.query('rollback');
      this.journal.end(run, step, { state: 'failed', statements: loader.ran, rowsIn: rows, error: stop }, checks);
      return false;
    }
    await this.putInPlace(loader, plan, [
      remembering(environment, table.fullName, {
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

  /** @param closing statements that end the transaction once the table is in its place */
  private async putInPlace(loader: Loader, plan: LoadPlan, closing: readonly string[]): Promise<void> {
    if (!plan.swaps) return loader.conclude(closing);
    if (plan.relation === 'table') return loader.finishAndSwap(plan, closing);
    await loader.swaps.finishStaged(plan);
    if (await loader.swaps.sameView(plan)) await loader.swaps.dropStaged(plan);
    else await loader.swaps.swap([plan]);
    await loader.conclude(closing);
  }

  private async runCheck(context: BuildContext, step: RunStep, loader: Loader): Promise<boolean> {
    const { run, project, environment, placeOf, parameters } = context;
    const names = {
      placeOf,
      functionsSchema: environment.schemaOf('functions'),
      settings: settingsOf(project, parameters),
    };
    const asked = run.request.checks?.length ? new Set(run.request.checks) : undefined;
    const outcomes = isCheckFile(step.table)
      ? [await this.kit.checkFile(loader, project, checkName(step.table), names)]
      : await this.kit.checkTable(
          loader,
          { project, table: project.tables.get(step.table)!, ...(asked ? { ids: asked } : {}) },
          names,
        );
    await loader.conclude(['commit']);
    const broken = worst(outcomes.map((o) => o.verdict)) === 'broken';
    const change = {
      state: broken ? 'failed' : 'done',
      statements: loader.ran,
      ...(broken ? { error: brokenError(outcomes, { isAlone: run.kind === 'check' }) } : {}),
    } as const;
    this.journal.end(run, step, change, outcomes);
    return !broken;
  }
}
