import { Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import type { JobCause } from '@ouvrage/api/job';
import { type JobSpec, jobSpec } from '@ouvrage/core/language';
import type { Job } from '@ouvrage/core/model';
import { startsBetween } from '@ouvrage/core/schedule';
import { DataSource, type EntityManager, In, LessThanOrEqual, Repository } from 'typeorm';
import { Delivery } from '../delivery/delivery.entities.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Run, RunStep } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import { logger, Problem } from '../shared/problem.js';
import { currentTime } from '../shared/time.js';
import { JobStart, JobState } from './job.entities.js';
import { JobRuns } from './job-runs.service.js';

const LOOK_MILLISECONDS = 5000;
/** Held by the process that looks; each looks for itself whether it is its turn. */
const LOOKING = 'select pg_try_advisory_xact_lock(1869968761, 0) as got';
/** A start by the clock that is found later than this was missed. */
const IN_TIME_MILLISECONDS = 120_000;
/** Starts by the clock that one look can find; of more, which a long pause brings, the oldest are not counted. */
const MOST_DUE = 1000;

/** What passes by itself: lost connections, deadlocks, failed serializations, locks not had, too many connections. */
const PASSING = /^(08...|40001|40P01|55P03|53300|57P0[123])$/;

/** Starts the jobs of production: by the clock, after one another, after deliveries, again. Of several processes one at a time does. */
@Injectable()
export class JobService implements OnApplicationBootstrap, OnApplicationShutdown {
  private timer: NodeJS.Timeout | undefined;
  private looking: Promise<void> = Promise.resolve();
  /** A commit that has no jobs: its files are not asked for again. */
  private without: string | undefined;

  constructor(
    @InjectDataSource() private readonly source: DataSource,
    @InjectRepository(JobState) private readonly states: Repository<JobState>,
    @InjectRepository(JobStart) private readonly starts: Repository<JobStart>,
    private readonly projects: ProjectService,
    private readonly jobRuns: JobRuns,
    private readonly runs: RunService,
  ) {}

  onApplicationBootstrap(): void {
    this.timer = setInterval(() => this.lookSoon(), LOOK_MILLISECONDS);
    this.runs.afterRun.push(async (id) => {
      if ((await this.runs.get(id)).job !== null) this.lookSoon();
    });
  }

  async onApplicationShutdown(): Promise<void> {
    clearInterval(this.timer);
    await this.looking;
  }

  private lookSoon(): void {
    void this.look();
  }

  /** Looks once what has to start, and what has ended. One look of this process follows the other. */
  look(): Promise<void> {
    this.looking = this.looking.then(() => this.lookNow()).catch((error: unknown) => logger.warn(error));
    return this.looking;
  }

  private async lookNow(): Promise<void> {
    const commit = await this.projects.productionCommit();
    if (!commit || (commit === this.without && !(await this.isOpen()))) return;
    const { project } = await this.projects.line(PRODUCTION);
    this.without = project.jobs.size === 0 ? commit : undefined;
    if (this.without && !(await this.isOpen())) return;
    await this.source.transaction(async (manager) => {
      const [{ got }] = (await manager.query(LOOKING)) as [{ got: boolean }];
      if (!got) return;
      // What has errors, which no release lets through, is left alone.
      const wrong = new Set(project.diagnostics.flatMap((d) => (d.severity === 'error' ? [d.path] : [])));
      const jobs = new Map([...project.jobs].filter(([, job]) => !wrong.has(job.path)));
      for (const job of jobs.values()) await this.dueOf(job, manager);
      await this.adopt(manager);
      await this.settle(jobs, manager);
      await this.limit(jobs, manager);
      await this.begin(jobs, manager);
    });
  }

  /** Whether a start waits or runs, such as of a job that is gone. */
  private isOpen(): Promise<boolean> {
    return this.starts.existsBy({ state: In(['waiting', 'started']) });
  }

  /** Starts of a job by the clock and by deliveries since it was looked last. A job that is seen for the first time has no past. */
  private async dueOf(job: Job, manager: EntityManager): Promise<void> {
    const now = currentTime();
    const state = await manager.findOneBy(JobState, { job: job.name });
    if (!state) {
      const lookedDelivery = (await manager.maximum(Delivery, 'id')) ?? 0;
      await manager.insert(JobState, {
        job: job.name,
        lookedUntil: now,
        lookedDelivery,
        pausedBy: null,
        pausedAt: null,
      });
      return;
    }
    const spec = jobSpec(job);
    await this.byClock({ job, spec, state }, now, manager);
    await this.byDelivery({ job, spec, state }, now, manager);
  }

  private async byClock(
    { job, spec, state }: { readonly job: Job; readonly spec: JobSpec; readonly state: JobState },
    now: Date,
    manager: EntityManager,
  ): Promise<void> {
    // Where the clock went back, nothing starts before it is where it was.
    if (now <= state.lookedUntil) return;
    await manager.update(JobState, { job: job.name }, { lookedUntil: now });
    if (!spec.cron) return;
    const span = [state.lookedUntil.getTime(), now.getTime()] as const;
    const due = startsBetween({ cron: spec.cron, zone: spec.zone }, span, MOST_DUE);
    const newest = due.at(-1);
    if (newest === undefined) return;
    const isMissed = now.getTime() - newest > IN_TIME_MILLISECONDS;
    const missed = due.length - (isMissed ? 0 : 1);
    const skipped = isMissed && spec.whenMissed === 'skip' ? 'missed while the server was not running' : undefined;
    const told =
      missed > 0 && !skipped && missed + (isMissed ? 0 : 1) > 1 ? `one start for ${due.length} that were due` : null;
    await this.add(manager, job, {
      ...{ cause: 'clock', of: new Date(newest).toISOString(), scheduledAt: new Date(newest) },
      ...(state.pausedBy !== null
        ? { state: 'skipped', reason: `paused by ${state.pausedBy}` }
        : skipped
          ? { state: 'skipped', reason: skipped }
          : { reason: told }),
    });
  }

  private async byDelivery(
    { job, spec, state }: { readonly job: Job; readonly spec: JobSpec; readonly state: JobState },
    now: Date,
    manager: EntityManager,
  ): Promise<void> {
    const newest = (await manager.maximum(Delivery, 'id')) ?? 0;
    if (newest <= state.lookedDelivery) return;
    await manager.update(JobState, { job: job.name }, { lookedDelivery: newest });
    if (spec.onDelivery.length === 0) return;
    const landed = await manager
      .createQueryBuilder(Delivery, 'd')
      .where('d.id > :from and d.id <= :to and d.state = :state', {
        from: state.lookedDelivery,
        to: newest,
        state: 'loaded',
      })
      .andWhere('d.table_name in (:...tables)', { tables: [...spec.onDelivery] })
      .orderBy('d.id')
      .getMany();
    for (const { id } of landed)
      await this.add(manager, job, {
        ...{ cause: 'delivery', of: String(id), scheduledAt: now },
        ...(state.pausedBy === null ? {} : { state: 'skipped', reason: `paused by ${state.pausedBy}` }),
      });
  }

  /** A start, unless there is one of this cause already. */
  private async add(
    manager: EntityManager,
    { name }: Pick<Job, 'name'>,
    start: Pick<JobStart, 'of' | 'scheduledAt'> & { cause: JobCause } & Partial<
        Pick<JobStart, 'state' | 'reason' | 'attempt' | 'dueAt' | 'person'>
      >,
  ): Promise<void> {
    await manager
      .createQueryBuilder()
      .insert()
      .into(JobStart)
      .values({
        ...{ job: name, state: 'waiting', reason: null, attempt: 1, person: null, runId: null },
        ...{ dueAt: start.scheduledAt },
        ...start,
      })
      .orIgnore()
      .execute();
  }

  /** Runs that a process asked for before it ended, and those with which a person has gone on, are their starts'. */
  private async adopt(manager: EntityManager): Promise<void> {
    await manager.query(
      `update job_start s set run_id = r.id, state = 'started', reason = null
       from (select job_start, max(id) as id from run where job_start is not null group by job_start) r
       where r.job_start = s.id and (s.run_id is null or s.run_id < r.id)`,
    );
  }

  /** What follows from runs that have ended: others start, or the same again. */
  private async settle(jobs: ReadonlyMap<string, Job>, manager: EntityManager): Promise<void> {
    const started = await manager.find(JobStart, { where: { state: 'started' }, order: { id: 'ASC' } });
    for (const start of started) {
      const run = await manager.findOneBy(Run, { id: start.runId! });
      if (run && ['queued', 'running'].includes(run.state)) continue;
      await manager.update(JobStart, start.id, { state: 'ended' });
      if (run?.state === 'succeeded') await this.follow(start, { jobs, of: `run ${run.id}` }, manager);
      else if (run) await this.retry(start, { run, jobs }, manager);
    }
  }

  /** The jobs that come after one that has ended well. */
  private async follow(
    { job: name }: JobStart,
    { jobs, of }: { readonly jobs: ReadonlyMap<string, Job>; readonly of: string },
    manager: EntityManager,
  ): Promise<void> {
    for (const job of jobs.values()) {
      if (!jobSpec(job).after.includes(name)) continue;
      const state = await manager.findOneBy(JobState, { job: job.name });
      await this.add(manager, job, {
        ...{ cause: 'after', of, scheduledAt: currentTime() },
        ...(state?.pausedBy ? { state: 'skipped', reason: `paused by ${state.pausedBy}` } : {}),
      });
    }
  }

  private async retry(
    start: JobStart,
    { run, jobs }: { readonly run: Run; readonly jobs: ReadonlyMap<string, Job> },
    manager: EntityManager,
  ): Promise<void> {
    const job = jobs.get(start.job);
    const spec = job && jobSpec(job);
    if (!job || !spec || start.attempt > spec.retries) return;
    const cause = await this.passingCause(run, manager);
    if (cause === undefined) return;
    await this.add(manager, job, {
      ...{ cause: 'retry', of: `run ${run.id}`, scheduledAt: start.scheduledAt, attempt: start.attempt + 1 },
      dueAt: new Date(currentTime().getTime() + spec.retryAfter * 1000),
      reason: cause,
    });
  }

  /** Why a run failed, where all that failed in it passes by itself; undefined where something does not. */
  private async passingCause(run: Run, manager: EntityManager): Promise<string | undefined> {
    if (run.state === 'interrupted') return 'the server or its database ended';
    if (run.state !== 'failed') return undefined;
    const failed = await manager.find(RunStep, { where: { run: { id: run.id }, state: 'failed' } });
    const passes = failed.length > 0 && failed.every(({ error }) => PASSING.test(error?.sqlstate ?? ''));
    return passes ? failed[0]!.error!.message : undefined;
  }

  /** Runs that take longer than their job allows are stopped. */
  private async limit(jobs: ReadonlyMap<string, Job>, manager: EntityManager): Promise<void> {
    for (const start of await manager.findBy(JobStart, { state: 'started' })) {
      const job = jobs.get(start.job);
      const limit = job && jobSpec(job).timeLimit;
      const run = limit === undefined ? null : await manager.findOneBy(Run, { id: start.runId!, state: 'running' });
      if (!run?.startedAt || run.stopAsked || currentTime().getTime() - run.startedAt.getTime() < limit! * 1000)
        continue;
      await manager.update(JobStart, start.id, { reason: 'stopped by its time limit' });
      await this.jobRuns.stop(start.job, run.id);
    }
  }

  /** Begins what waits: one start of a job at a time, and one for all others that came while it ran. */
  private async begin(jobs: ReadonlyMap<string, Job>, manager: EntityManager): Promise<void> {
    const waiting = await manager.find(JobStart, {
      where: { state: 'waiting', dueAt: LessThanOrEqual(currentTime()) },
      order: { id: 'ASC' },
    });
    const busy = new Set((await manager.findBy(JobStart, { state: 'started' })).map((s) => s.job));
    const begun = new Map<string, number>();
    for (const start of waiting) {
      const job = jobs.get(start.job);
      const other = begun.get(start.job);
      if (!job) await manager.update(JobStart, start.id, { state: 'refused', reason: 'the job is no longer there' });
      else if (other !== undefined && start.cause !== 'retry')
        await manager.update(JobStart, start.id, { state: 'skipped', reason: `done by start ${other}` });
      else if (!busy.has(start.job) && other === undefined) {
        begun.set(start.job, start.id);
        await this.beginOne(start, { job, jobs }, manager);
      } else if (start.cause === 'clock' && jobSpec(job).whenRunning === 'skip')
        await manager.update(JobStart, start.id, { state: 'skipped', reason: 'the one before was still running' });
    }
  }

  private async beginOne(
    start: JobStart,
    { job, jobs }: { readonly job: Job; readonly jobs: ReadonlyMap<string, Job> },
    manager: EntityManager,
  ): Promise<void> {
    try {
      const run =
        start.cause === 'retry'
          ? await this.jobRuns.again(job.name, Number(start.of.slice('run '.length)), start.id)
          : await this.jobRuns.ask(job, start);
      if (run) await manager.update(JobStart, start.id, { state: 'started', runId: run.id });
      else {
        await manager.update(JobStart, start.id, { state: 'ended', reason: 'nothing was stale' });
        await this.follow(start, { jobs, of: `start ${start.id}` }, manager);
      }
    } catch (error) {
      // What is no fault of the job is tried again with the next look, and keeps no other job from starting.
      if (!(error instanceof Problem)) return logger.warn(error);
      const reason = error.detail ? `${error.title}. ${error.detail}` : error.title;
      await manager.update(JobStart, start.id, { state: 'refused', reason: reason.slice(0, 1000) });
    }
  }

  /** Starts a job now, for a person. */
  async startNow(job: Job, person: string): Promise<JobStart> {
    const now = currentTime();
    const start = await this.starts.save(
      this.starts.create({
        ...{ job: job.name, cause: 'person', of: `${person} ${now.toISOString()}`, scheduledAt: now, dueAt: now },
        ...{ state: 'waiting', reason: null, attempt: 1, person, runId: null },
      }),
    );
    await this.look();
    return this.starts.findOneByOrFail({ id: start.id });
  }

  /** Pauses a job, or lets it start again; what was due meanwhile does not start. */
  async pause({ name }: Job, by: string | null): Promise<void> {
    const at = by === null ? null : currentTime();
    await this.states.upsert(
      {
        job: name,
        lookedUntil: currentTime(),
        lookedDelivery: (await this.source.manager.maximum(Delivery, 'id')) ?? 0,
        pausedBy: by,
        pausedAt: at,
      },
      ['job'],
    );
  }
}
