import { Inject, Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import { makeWorkerUtils, run as startWorker, Logger, type Runner, type WorkerUtils } from 'graphile-worker';
import pg from 'pg';
import { DataSource, EntityManager, In, Repository } from 'typeorm';
import { STATEFUL, changeFiles, didYouMean, type Project, withParameterValues } from '@ouvrage/core';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION, ProjectService } from '../project/project.service.js';
import { Config } from '../shared/config.js';
import { logger, notFound, Problem } from '../shared/problem.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { ProgressService } from './progress.service.js';
import { CheckResult, Run, RunStep, type RunKind, type RunRequest, type StepState } from './run.entities.js';
import { planSteps, type PlannedStep } from './run-plan.js';
import { StepJournal } from './step-journal.js';

/** Does the work of one kind of run; registered by the module that knows it. */
export type RunWork = (run: Run, steps: RunStep[], signal: AbortSignal) => Promise<'succeeded' | 'failed' | 'stopped'>;

const TASK = 'ouvrage_run';
/** Runs of different environments at a time; one environment has one run at a time. */
const RUNS_AT_A_TIME = 3;
/** How often runs are looked for that nobody works on any more: their process died, or lost the database while it told of their end. */
const LOOK_MILLISECONDS = 10_000;
/** A job that was taken up within this time may not be worked on yet. */
const SETTLING_SECONDS = 5;

/** Runs: asked for, queued in PostgreSQL, worked on, stopped, taken up again. */
@Injectable()
export class RunService implements OnApplicationBootstrap, OnApplicationShutdown {
  private readonly works = new Map<RunKind, RunWork>();
  private pool?: pg.Pool;
  private worker?: Runner;
  /** Runs that this process works on. */
  private readonly working = new Set<number>();
  private looking: NodeJS.Timeout | undefined;
  private utils?: WorkerUtils;

  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectDataSource() private readonly source: DataSource,
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
    @InjectRepository(CheckResult) private readonly results: Repository<CheckResult>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly progress: ProgressService,
    private readonly journal: StepJournal,
    private readonly people: PeopleService,
  ) {}

  register(kind: RunKind, work: RunWork): void {
    this.works.set(kind, work);
  }

  async onApplicationBootstrap(): Promise<void> {
    this.pool = new pg.Pool({ ...this.config.application, max: 12 });
    this.pool.on('error', (error) => logger.warn(error));
    this.pool.on('connect', (client) => client.on('error', (error) => logger.warn(error)));
    const quiet = new Logger(() => (level, message) => (level === 'error' ? logger.error(message) : undefined));
    this.utils = await makeWorkerUtils({ pgPool: this.pool, logger: quiet });
    await this.utils.migrate();
    await this.unlockJobs(0);
    await this.queueForgotten();
    await this.markInterrupted();
    this.looking = setInterval(() => void this.lookAfter().catch((error: unknown) => logger.warn(error)), LOOK_MILLISECONDS);
    this.worker = await startWorker({
      pgPool: this.pool,
      logger: quiet,
      concurrency: RUNS_AT_A_TIME,
      noHandleSignals: true,
      pollInterval: 5000,
      taskList: { [TASK]: async (payload) => this.work((payload as { run: number }).run) },
    });
  }

  async onApplicationShutdown(): Promise<void> {
    clearInterval(this.looking);
    await this.worker?.stop().catch(() => undefined);
    await this.utils?.release();
    await this.pool?.end();
  }

  /** Puts right what processes left behind that ended, or whose database did. */
  private async lookAfter(): Promise<void> {
    await this.markInterrupted();
    await this.unlockJobs(SETTLING_SECONDS);
  }

  /**
   * The locks on the queue of a worker that was killed, or that could not say it had ended, are taken away, so that the
   * environment's next run is not kept waiting.
   * @param seconds how long a lock has to be there: a run that has just been taken up is not worked on yet
   */
  private async unlockJobs(seconds: number): Promise<void> {
    const { rows: jobs } = await this.pool!.query<{ key: string; locked_by: string }>(
      `select key, locked_by from graphile_worker.jobs where task_identifier = $1 and locked_by is not null and locked_at <= now() - make_interval(secs => $2)`,
      [TASK, seconds],
    );
    for (const job of jobs) {
      const id = Number(job.key.slice('run:'.length));
      if (this.working.has(id)) continue;
      const lock = await this.lock(id);
      if (!lock) continue;
      await this.utils!.withPgClient((client) => client.query('select graphile_worker.force_unlock_workers(array[$1::text])', [job.locked_by]));
      const queued = await this.runs.findOneBy({ id, state: 'queued' });
      if (queued) await this.enqueue(queued, this.source.manager);
      await lock.release();
    }
  }

  /**
   * Each run that is worked on holds an advisory lock for as long as its process lives. A running run
   * whose lock is free was killed: its transactions were rolled back by PostgreSQL.
   */
  private async markInterrupted(): Promise<void> {
    for (const run of await this.runs.findBy({ state: 'running' })) {
      if (this.working.has(run.id)) continue;
      const lock = await this.lock(run.id);
      if (!lock) continue;
      await this.steps.update(
        { run: { id: run.id }, state: In(['running', 'waiting'] satisfies StepState[]) },
        { state: 'interrupted', finishedAt: new Date() },
      );
      await this.runs.update(run.id, {
        state: 'interrupted',
        finishedAt: new Date(),
        error: `The server, or its database, ended while this run was going on. ${run.kind === 'release' ? 'Production is as it was: release again.' : 'Nothing is half-built: continue it to do the rest.'}`,
      });
      await lock.release();
    }
  }

  /** A run is queued in the transaction that makes it: one that a killed process left without a job would wait for ever. */
  private async enqueue({ id, environment }: Pick<Run, 'id' | 'environment'>, manager: EntityManager): Promise<void> {
    await manager.query('select graphile_worker.add_job($1, payload => $2::json, queue_name => $3, max_attempts => 1, job_key => $4)', [
      TASK,
      JSON.stringify({ run: id }),
      `environment:${environment}`,
      `run:${id}`,
    ]);
  }

  /** Runs that were asked for and never queued: earlier versions did the two one after the other. */
  private async queueForgotten(): Promise<void> {
    const { rows } = await this.pool!.query<{ key: string }>('select key from graphile_worker.jobs where task_identifier = $1', [TASK]);
    const queued = new Set(rows.map((job) => job.key));
    for (const run of await this.runs.findBy({ state: 'queued' })) if (!queued.has(`run:${run.id}`)) await this.enqueue(run, this.source.manager);
  }

  /** The run's lock on a connection of its own; undefined when another process has it. */
  private async lock(id: number): Promise<{ release: () => Promise<void> } | undefined> {
    const client = new pg.Client(this.config.application);
    client.on('error', (error) => logger.warn(error));
    await client.connect();
    const { rows } = await client.query<{ got: boolean }>('select pg_try_advisory_lock(1869968758, $1) as got', [id]);
    if (rows[0]?.got) return { release: () => client.end() };
    await client.end();
    return undefined;
  }

  /** Asks for a build of tables in an environment; an empty list means all of them. */
  async build(
    person: Person,
    slug: string,
    ask: {
      tables: readonly string[];
      upstream: boolean;
      downstream: boolean;
      parallelism?: number;
      parameters?: Record<string, string>;
      startOver?: readonly string[];
    },
  ): Promise<Run> {
    const line = await this.projects.line(slug);
    const overlay = parameterFiles(line.project, ask.parameters ?? {});
    const project = overlay.size ? changeFiles(line.project, overlay) : line.project;
    const standings = await this.warehouse.standings(project, line.environment, this.projects.environmentOf(undefined));
    const planned = planSteps(project, ask, standings, slug !== PRODUCTION);
    this.refuseStartOver(ask.startOver ?? [], project, planned);
    if (planned.length === 0) throw new Problem(409, 'nothing-to-run', 'There is nothing to run', 'Source tables are brought in under Sources.');
    const request: RunRequest = {
      ...ask,
      parallelism: ask.parallelism ?? this.config.atATime,
      parameters: ask.parameters ?? {},
      drafts: { ...Object.fromEntries(line.drafts.map((d) => [d.path, d.text])), ...Object.fromEntries(overlay) },
    };
    return this.queue(person, 'build', slug, line.commit, request, planned);
  }

  /** Only a table that keeps rows from load to load can be started over. */
  private refuseStartOver(tables: readonly string[], project: Project, planned: readonly PlannedStep[]): void {
    const wrong = tables.find((name) => {
      const table = project.tables.get(name);
      return table?.kind !== 'definition' || !STATEFUL.has(table.policy) || !planned.some((p) => p.name === name);
    });
    if (wrong !== undefined)
      throw new Problem(
        422,
        'no-start-over',
        `${wrong} cannot be started over`,
        'It is not in this run, or keeps nothing from load to load: it is made anew each time.',
      );
  }

  async queue(
    person: Person,
    kind: RunKind,
    environment: string,
    commit: string,
    request: RunRequest,
    planned: readonly (PlannedStep | { kind: 'intake'; name: string; waitsFor: readonly string[]; reused: false })[],
    continues: number | null = null,
  ): Promise<Run> {
    const run = await this.source.transaction(async (manager) => {
      const made = await manager.save(
        manager.create(Run, {
          kind,
          environment,
          commit,
          state: 'queued',
          person: person.displayName,
          request,
          error: null,
          continues,
          startedAt: null,
          finishedAt: null,
        }),
      );
      await manager.insert(
        RunStep,
        planned.map((s, position) => ({
          run: { id: made.id },
          kind: s.kind,
          table: s.name,
          position,
          state: (s.reused ? 'reused' : 'waiting') as StepState,
          waitsFor: s.waitsFor,
          rowsOut: null,
          counts: null,
          note: null,
          kinds: null,
          rowsIn: null,
          error: null,
          startedAt: null,
          finishedAt: null,
        })) as never,
      );
      await this.people.audit(person, `run asked for: ${kind}`, environment, { run: made.id, tables: request.tables }, manager);
      await this.enqueue(made, manager);
      return made;
    });
    await this.progress.tell({ run: run.id, environment, what: 'changed' });
    return run;
  }

  private async work(id: number): Promise<void> {
    const run = await this.runs.findOneBy({ id });
    if (run?.state !== 'queued') return;
    const lock = await this.lock(id);
    if (!lock) return;
    this.working.add(id);
    const controller = new AbortController();
    const listening = this.progress.notes.subscribe((note) => note.run === id && note.what === 'stop' && controller.abort());
    try {
      if (run.stopAsked) controller.abort();
      await this.runs.update(id, { state: 'running', startedAt: new Date() });
      await this.changed(run);
      const steps = await this.steps.find({ where: { run: { id } }, order: { position: 'ASC' } });
      const state = await this.works.get(run.kind)!(run, steps, controller.signal);
      await this.journal.written(run);
      await this.runs.update(id, { state, finishedAt: new Date() });
    } catch (error) {
      logger.error(error);
      await this.journal.written(run).catch(() => undefined);
      const message =
        error instanceof Problem ? `${error.title}${error.detail ? `. ${error.detail}` : ''}` : error instanceof Error ? error.message : String(error);
      await this.steps.update({ run: { id }, state: In(['running', 'waiting'] satisfies StepState[]) }, { state: 'blocked', finishedAt: new Date() });
      await this.runs.update(id, { state: controller.signal.aborted ? 'stopped' : 'failed', finishedAt: new Date(), error: message });
    } finally {
      listening.unsubscribe();
      this.working.delete(id);
      this.journal.close(run);
      await this.changed(run);
      await lock.release().catch((error: unknown) => logger.warn(error));
    }
  }

  changed(run: Pick<Run, 'id' | 'environment'>): Promise<void> {
    return this.progress.tell({ run: run.id, environment: run.environment, what: 'changed' });
  }

  async stop(person: Person, id: number): Promise<void> {
    const run = await this.get(id);
    if (!['queued', 'running'].includes(run.state)) throw new Problem(409, 'not-running', `Run ${id} has ended already`);
    await this.runs.update(id, { stopAsked: true });
    const queued = await this.runs.update({ id, state: 'queued' }, { state: 'stopped', finishedAt: new Date() });
    if (queued.affected) await this.steps.update({ run: { id }, state: 'waiting' }, { state: 'stopped', finishedAt: new Date() });
    await this.people.audit(person, 'run stopped', String(id));
    await this.progress.tell({ run: id, environment: run.environment, what: 'stop' });
    await this.changed(run);
  }

  /** A new run over what an earlier one did not finish, of the same files. */
  async goOn(person: Person, id: number): Promise<Run> {
    const run = await this.get(id);
    if (run.kind === 'release') throw new Problem(409, 'cannot-continue', 'A release is all or nothing', 'Release again.');
    if (!['failed', 'stopped', 'interrupted'].includes(run.state)) throw new Problem(409, 'nothing-left', `Run ${id} has nothing left to do`);
    const steps = await this.steps.find({ where: { run: { id } }, order: { position: 'ASC' } });
    const left = steps.filter((s) => !['done', 'reused'].includes(s.state));
    const names = new Set(left.map((s) => s.table));
    const planned = left.map((s) => ({
      kind: s.kind as 'load' | 'check',
      name: s.table,
      waitsFor: s.waitsFor.filter((w) => names.has(w)),
      reused: false as const,
    }));
    return this.queue(person, run.kind, run.environment, run.commit, run.request, planned, id);
  }

  async get(id: number): Promise<Run> {
    const run = await this.runs.findOneBy({ id });
    if (!run) throw notFound(`Run ${id}`);
    return run;
  }

  /** What is only read of one step at a time: its statements, some rows of each kind that its load counted, its checks with their rows. */
  async detailOf(step: number): Promise<Pick<RunStep, 'statements' | 'kinds'> & { readonly results: readonly CheckResult[] }> {
    const [found, results] = await Promise.all([
      this.steps.findOneOrFail({ where: { id: step }, select: { id: true, kinds: true, statements: true } }),
      this.results.find({ where: { step: { id: step } }, order: { id: 'ASC' } }),
    ]);
    return { statements: found.statements, kinds: found.kinds, results };
  }

  stepsOf(id: number): Promise<RunStep[]> {
    return this.steps.find({ where: { run: { id } }, order: { position: 'ASC' } });
  }

  /** The outcomes of a run's checks, without their rows. */
  resultsOf(id: number): Promise<CheckResult[]> {
    return this.results.find({
      where: { step: { run: { id } } },
      relations: { step: true },
      select: { id: true, checkId: true, verdict: true, atFault: true, total: true, step: { id: true } },
      order: { id: 'ASC' },
    });
  }

  /** The newest runs, without the texts of their drafts: who watches a run asks for them again and again. */
  async list(environment: string | undefined, most: number): Promise<Run[]> {
    const others = this.runs.metadata.columns.filter((c) => c.propertyName !== 'request').map((c) => `run.${c.propertyName}`);
    const found = this.runs.createQueryBuilder('run').select(others).addSelect("run.request - 'drafts'", 'asked');
    if (environment) found.where({ environment });
    const { entities, raw } = await found.orderBy('run.id', 'DESC').limit(most).getRawAndEntities<{ asked: RunRequest }>();
    return entities.map((run, i) => Object.assign(run, { request: raw[i]!.asked }));
  }
}

/** @throws Problem for a name that the project does not set, or a value that is no text */
function parameterFiles(project: Project, values: Readonly<Record<string, string>>): Map<string, string> {
  for (const [name, value] of Object.entries(values)) {
    if (!project.parameters.has(name)) {
      const known = [...project.parameters.keys()];
      throw new Problem(
        422,
        'unknown-parameter',
        `The project sets no param.${name}`,
        didYouMean(name, known) ?? (known.length ? `Its parameters are ${known.join(', ')}.` : 'Write it into parameters.sql.'),
      );
    }
    if (typeof value !== 'string' || value.length > 1000)
      throw new Problem(422, 'bad-parameter', `The value of param.${name} is no text of at most 1,000 characters`, 'Give it as text.');
  }
  return withParameterValues(project, new Map(Object.entries(values)));
}
