import { Inject, Injectable, type OnApplicationBootstrap } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import { DataSource, In, Repository } from 'typeorm';
import { changedChecks } from '@ouvrage/core/check';
import { keepsRows } from '@ouvrage/core/language';
import type { Project } from '@ouvrage/core/model';
import { changeFiles } from '@ouvrage/core/resolve';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Config } from '../shared/config.js';
import { isFullDisk } from '../shared/disk.js';
import { fullDisk, logger, notFound, Problem } from '../shared/problem.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { parameterFiles } from './parameter-files.js';
import { ProgressService } from './progress.service.js';
import type { RunKind, RunState, StepState } from '@ouvrage/api/run';
import { CheckResult, Run, RunStep, type RunRequest } from './run.entities.js';
import { type ChecksAsked, planChecks, planSteps, type PlannedStep, tablesOf } from './run-plan.js';
import { RunQueue } from './run-queue.js';
import { checkStandings } from './check-standings.js';
import { StepJournal } from './step-journal.js';
import { currentTime } from '../shared/time.js';

/** Whoever may run checks holds up loads with them, but not for long. */
const MOST_WAITING_CHECKS = 10;

/** Does the work of one kind of run; registered by the module that knows it. */
export type RunWork = (run: Run, steps: RunStep[], signal: AbortSignal) => Promise<'succeeded' | 'failed' | 'stopped'>;

/** Runs: asked for, queued in PostgreSQL, worked on, stopped, taken up again. */
@Injectable()
export class RunService implements OnApplicationBootstrap {
  private readonly works = new Map<RunKind, RunWork>();

  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectDataSource() private readonly source: DataSource,
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
    @InjectRepository(CheckResult) private readonly results: Repository<CheckResult>,
    readonly projects: ProjectService,
    readonly warehouse: WarehouseService,
    private readonly progress: ProgressService,
    private readonly journal: StepJournal,
    private readonly people: PeopleService,
    private readonly waiting: RunQueue,
  ) {}

  /** What follows the end of a run; registered by the modules that know it. Each does its work once, also if it is asked again. */
  readonly afterRun: ((id: number) => Promise<void>)[] = [];

  register(kind: RunKind, work: RunWork): void {
    this.works.set(kind, work);
  }

  onApplicationBootstrap(): Promise<void> {
    return this.waiting.begin((id) => this.work(id));
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
    const planned = planSteps(project, ask, standings, slug === PRODUCTION ? 'production' : 'workspace');
    this.refuseStartOver(ask.startOver ?? [], project, planned);
    if (planned.length === 0)
      throw new Problem(409, 'nothing-to-run', 'There is nothing to run', 'Source tables are loaded under Sources.');
    const request: RunRequest = {
      ...ask,
      parallelism: ask.parallelism ?? this.config.atATime,
      parameters: ask.parameters ?? {},
      drafts: { ...Object.fromEntries(line.drafts.map((d) => [d.path, d.text])), ...Object.fromEntries(overlay) },
    };
    return this.queue(person, { kind: 'build', environment: slug, commit: line.commit, request }, planned);
  }

  /** Asks for checks alone, over tables as they are. */
  async check(person: Person, slug: string, asked: ChecksAsked): Promise<Run> {
    const line = await this.projects.line(slug);
    const standings = await checkStandings(this, line);
    const { steps, checks } = planChecks(line.project, asked, standings);
    const waiting = await this.runs.countBy({ environment: slug, kind: 'check', state: 'queued' });
    if (waiting >= MOST_WAITING_CHECKS)
      throw new Problem(
        409,
        'many-waiting',
        `${waiting} runs of checks are already waiting in ${slug}`,
        'Loads wait behind them: try again once they have run.',
      );
    const request: RunRequest = {
      tables: asked.tables,
      checks,
      upstream: false,
      downstream: false,
      parallelism: this.config.atATime,
      parameters: {},
      drafts: Object.fromEntries(line.drafts.map((d) => [d.path, d.text])),
    };
    return this.queue(person, { kind: 'check', environment: slug, commit: line.commit, request }, steps);
  }

  /** Runs the checks that a workspace has new or otherwise than production, over the tables that are there. Those whose files have errors wait for the next commit. */
  async checkChanges(person: Person, slug: string): Promise<void> {
    const [line, production] = [await this.projects.line(slug), await this.projects.line(PRODUCTION)];
    const standings = await checkStandings(this, line);
    const changed = changedChecks(production.project, line.project).filter(
      ({ change, check }) => change !== 'deleted' && tablesOf(check).every((t) => standings.get(t)?.place),
    );
    if (changed.length === 0) return;
    try {
      await this.check(person, slug, { checks: changed.map(({ check }) => check.id), tables: [] });
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
    }
  }

  /** Only a table that keeps rows from load to load can be started over. */
  private refuseStartOver(tables: readonly string[], project: Project, planned: readonly PlannedStep[]): void {
    const wrong = tables.find((name) => {
      const table = project.tables.get(name);
      return table?.kind !== 'definition' || !keepsRows(table) || !planned.some((p) => p.name === name);
    });
    if (wrong !== undefined)
      throw new Problem(
        422,
        'no-start-over',
        `${wrong} cannot be started over`,
        'It is not in this run, or keeps nothing from load to load: it is rebuilt each time.',
      );
  }

  async queue(
    person: Person,
    {
      kind,
      environment,
      commit,
      request,
      continues = null,
      job = null,
      jobStart = null,
    }: Pick<Run, 'kind' | 'environment' | 'commit' | 'request'> & Partial<Pick<Run, 'continues' | 'job' | 'jobStart'>>,
    planned: readonly (PlannedStep | { kind: 'intake'; name: string; waitsFor: readonly string[]; reused: false })[],
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
          job,
          jobStart,
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
      await this.people.audit(person, `run asked for: ${kind}`, environment, {
        run: made.id,
        tables: request.tables,
        manager,
      });
      await this.waiting.add(made, manager);
      return made;
    });
    await this.progress.tell({ run: run.id, environment, what: 'changed' });
    return run;
  }

  private async work(id: number): Promise<void> {
    const asked = await this.runs.findOneBy({ id });
    const lock = asked && (await this.waiting.lock(id));
    if (!lock) return;
    // The queue has one run of an environment at a time, unless its own worker was lost while the run went on.
    const run = await lock
      .aloneIn(asked.environment)
      .then(() => this.runs.findOneBy({ id }))
      .catch(async (error: unknown) => {
        // Held on, nobody could ever work on the run.
        await lock.release().catch(() => undefined);
        throw error;
      });
    if (run?.state !== 'queued') return lock.release();
    this.waiting.working.add(id);
    const controller = new AbortController();
    const listening = this.progress.notes.subscribe(
      (note) => note.run === id && note.what === 'stop' && controller.abort(),
    );
    try {
      if (run.stopAsked) controller.abort();
      await this.runs.update(id, { state: 'running', startedAt: currentTime() });
      await this.changed(run);
      const steps = await this.steps.find({ where: { run: { id } }, order: { position: 'ASC' } });
      const state = await this.works.get(run.kind)!(run, steps, controller.signal);
      await this.journal.written(run);
      await this.runs.update(id, { state, finishedAt: currentTime() });
    } catch (error) {
      logger.error(error);
      await this.journal.written(run).catch(() => undefined);
      const { title, detail } = isFullDisk(error)
        ? fullDisk()
        : error instanceof Problem
          ? error
          : { title: error instanceof Error ? error.message : String(error), detail: undefined };
      const message = detail ? `${title}. ${detail}` : title;
      await this.steps.update(
        { run: { id }, state: In(['running', 'waiting'] satisfies StepState[]) },
        { state: 'blocked', finishedAt: currentTime() },
      );
      await this.runs.update(id, {
        state: controller.signal.aborted ? 'stopped' : 'failed',
        finishedAt: currentTime(),
        error: message,
      });
    } finally {
      listening.unsubscribe();
      this.waiting.working.delete(id);
      this.journal.close(run);
      for (const follow of this.afterRun) await follow(id).catch((error: unknown) => logger.warn(error));
      await this.changed(run);
      await lock.release().catch((error: unknown) => logger.warn(error));
    }
  }

  changed(run: Pick<Run, 'id' | 'environment'>): Promise<void> {
    return this.progress.tell({ run: run.id, environment: run.environment, what: 'changed' });
  }

  async stop(person: Person, id: number): Promise<void> {
    const run = await this.get(id);
    if (!['queued', 'running'].includes(run.state))
      throw new Problem(409, 'not-running', `Run ${id} has already ended`);
    await this.runs.update(id, { stopAsked: true });
    const queued = await this.runs.update({ id, state: 'queued' }, { state: 'stopped', finishedAt: currentTime() });
    if (queued.affected)
      await this.steps.update({ run: { id }, state: 'waiting' }, { state: 'stopped', finishedAt: currentTime() });
    await this.people.audit(person, 'run stopped', String(id));
    await this.progress.tell({ run: id, environment: run.environment, what: 'stop' });
    await this.changed(run);
  }

  /** A new run over what an earlier one did not finish, of the same files. @param jobStart the start of its job that it is of, where that is another one */
  async goOn(person: Person, id: number, jobStart?: number): Promise<Run> {
    const run = await this.get(id);
    if (run.kind === 'release')
      throw new Problem(409, 'cannot-continue', 'A release cannot be continued', 'Release again.');
    if (!['failed', 'stopped', 'interrupted'].includes(run.state))
      throw new Problem(409, 'nothing-left', `Run ${id} has nothing left to do`);
    const steps = await this.steps.find({ where: { run: { id } }, order: { position: 'ASC' } });
    const left = steps.filter((s) => !['done', 'reused'].includes(s.state));
    const names = new Set(left.map((s) => s.table));
    const planned = left.map((s) => ({
      kind: s.kind as 'load' | 'check',
      name: s.table,
      waitsFor: s.waitsFor.filter((w) => names.has(w)),
      reused: false as const,
    }));
    return this.queue(person, { ...run, continues: id, jobStart: jobStart ?? run.jobStart }, planned);
  }

  async get(id: number): Promise<Run> {
    const run = await this.runs.findOneBy({ id });
    if (!run) throw notFound(`Run ${id}`);
    return run;
  }

  /** What is only read of one step at a time: its statements, some rows of each kind that its load counted, its checks with their rows. */
  async detailOf(
    step: number,
  ): Promise<Pick<RunStep, 'statements' | 'kinds'> & { readonly results: readonly CheckResult[] }> {
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
  /** Runs of all tables of an environment that have ended, the newest first. */
  wholeBuilds(environment: string, most: number): Promise<Run[]> {
    return this.runs
      .createQueryBuilder('run')
      .where({ environment, kind: 'build' satisfies RunKind, state: In(['succeeded', 'failed'] satisfies RunState[]) })
      .andWhere("run.request -> 'tables' = '[]'")
      .andWhere('run.started_at is not null')
      .orderBy('run.id', 'DESC')
      .limit(most)
      .getMany();
  }

  async list(environment: string | undefined, most: number): Promise<Run[]> {
    const others = this.runs.metadata.columns
      .filter((c) => c.propertyName !== 'request')
      .map((c) => `run.${c.propertyName}`);
    const found = this.runs.createQueryBuilder('run').select(others).addSelect("run.request - 'drafts'", 'asked');
    if (environment) found.where({ environment });
    const { entities, raw } = await found
      .orderBy('run.id', 'DESC')
      .limit(most)
      .getRawAndEntities<{ asked: RunRequest }>();
    return entities.map((run, i) => Object.assign(run, { request: raw[i]!.asked }));
  }
}
