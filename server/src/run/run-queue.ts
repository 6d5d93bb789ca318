import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import { makeWorkerUtils, run as startWorker, Logger, type Runner, type WorkerUtils } from 'graphile-worker';
import { setTimeout as sleep } from 'node:timers/promises';
import pg from 'pg';
import { DataSource, EntityManager, In, Repository } from 'typeorm';
import { Config } from '../shared/config.js';
import { isDiskFull, leftOnDisk } from '../shared/disk.js';
import { logger } from '../shared/problem.js';
import type { StepState } from '@ouvrage/api/run';
import { Run, RunStep } from './run.entities.js';
import { currentTime } from '../shared/time.js';

/** Says that a process works on a run; it ends with the process. */
interface RunLock {
  release(): Promise<void>;
  /** Waits until no other run of an environment is worked on. */
  aloneIn(environment: string): Promise<void>;
}

const TASK = 'ouvrage_run';
/** Held by whoever works on a run of an environment, until what follows from it is done. */
const ALONE = 'select pg_advisory_lock(1869968759, hashtext($1))';
/** Runs of different environments at a time; one environment has one run at a time. */
const RUNS_AT_A_TIME = 3;
/** How often runs are looked for that nobody works on any more: their process died, or lost the database while it told of their end. */
const LOOK_MILLISECONDS = 10_000;
/** A job that was taken up within this time may not be worked on yet. */
const SETTLING_SECONDS = 5;

/** The queue of runs in PostgreSQL: what waits, what is worked on and by whom, and what is put right where a process or the database ended. */
@Injectable()
export class RunQueue implements OnApplicationShutdown {
  private pool?: pg.Pool;
  private worker?: Runner;
  /** Runs that this process works on. */
  readonly working = new Set<number>();
  /** What is done first wherever something is put right: the ends of runs that only their own module knows. */
  readonly settlers: (() => Promise<void>)[] = [];
  private looking: NodeJS.Timeout | undefined;
  private ending = false;
  private utils?: WorkerUtils;

  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectDataSource() private readonly source: DataSource,
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
  ) {}

  /** Begins to work on what waits. @param work does the run of an id; called in each process that has room for one */
  async begin(work: (id: number) => Promise<void>): Promise<void> {
    this.pool = new pg.Pool({ ...this.config.application, max: 12 });
    this.pool.on('error', (error) => logger.warn(error));
    this.pool.on('connect', (client) => client.on('error', (error) => logger.warn(error)));
    const quiet = new Logger(() => (level, message) => (level === 'error' ? logger.error(message) : undefined));
    this.utils = await makeWorkerUtils({ pgPool: this.pool, logger: quiet });
    await this.utils.migrate();
    await this.lookAfter(0);
    this.looking = setInterval(
      () => void this.lookAfter().catch((error: unknown) => logger.warn(error)),
      LOOK_MILLISECONDS,
    );
    void this.keepWorking(quiet, work);
  }

  /** Works on the queue for as long as this process lives: the library's workers end where the database goes away for longer. */
  private async keepWorking(quiet: Logger, work: (id: number) => Promise<void>): Promise<void> {
    while (!this.ending) {
      try {
        this.worker = await startWorker({
          pgPool: this.pool!,
          logger: quiet,
          concurrency: RUNS_AT_A_TIME,
          noHandleSignals: true,
          pollInterval: 5000,
          taskList: { [TASK]: async (payload) => work((payload as { run: number }).run) },
        });
        await this.worker.promise;
      } catch (error) {
        logger.warn(error);
      }
      if (!this.ending) await sleep(1000);
    }
  }

  async onApplicationShutdown(): Promise<void> {
    this.ending = true;
    clearInterval(this.looking);
    await this.worker?.stop().catch(() => undefined);
    await this.utils?.release();
    await this.pool?.end();
  }

  /** Puts right what processes left behind that ended, or whose database did. */
  private async lookAfter(seconds = SETTLING_SECONDS): Promise<void> {
    for (const settle of this.settlers) await settle().catch((error: unknown) => logger.warn(error));
    await this.markInterrupted();
    await this.unlockJobs(seconds);
    await this.queueForgotten();
  }

  /**
   * The locks on the queue of a worker that was killed, or that could not say it had ended, are taken away, so that the
   * environment's next run is not kept waiting. The library unlocks all jobs of a process at once, also those that go on.
   * @param seconds how long a lock has to be there: a run that has just been taken up is not worked on yet
   */
  private async unlockJobs(seconds: number): Promise<void> {
    const { rows: jobs } = await this.pool!.query<{ id: string; key: string }>(
      `select id, key from graphile_worker.jobs where task_identifier = $1 and key like 'run:%' and locked_at <= now() - make_interval(secs => $2)`,
      [TASK, seconds],
    );
    for (const job of jobs) {
      const run = Number(job.key.slice('run:'.length));
      await this.unlessWorkedOn(run, () =>
        this.pool!.query(
          `with freed as (update graphile_worker._private_jobs set locked_at = null, locked_by = null where id = $1 returning job_queue_id)
           update graphile_worker._private_job_queues as q set locked_at = null, locked_by = null from freed where q.id = freed.job_queue_id`,
          [job.id],
        ),
      );
    }
  }

  /**
   * Runs that wait and would for ever: without a job in the queue, or with one that has been tried, because the
   * database went away between the taking of the job and the run.
   */
  private async queueForgotten(): Promise<void> {
    const { rows } = await this.pool!.query<{ key: string }>(
      'select key from graphile_worker.jobs where task_identifier = $1 and (locked_at is not null or attempts < max_attempts)',
      [TASK],
    );
    const queued = new Set(rows.map((job) => job.key));
    for (const run of await this.runs.findBy({ state: 'queued' }))
      if (!queued.has(`run:${run.id}`)) await this.add(run, this.source.manager);
  }

  /**
   * Each run that is worked on holds an advisory lock for as long as its process lives. A running run
   * whose lock is free was killed: its transactions were rolled back by PostgreSQL.
   */
  private async markInterrupted(): Promise<void> {
    for (const run of await this.runs.findBy({ state: 'running' })) {
      await this.unlessWorkedOn(run.id, async () => {
        // It may have ended by itself since it was found.
        if (!(await this.runs.existsBy({ id: run.id, state: 'running' }))) return;
        await this.steps.update(
          { run: { id: run.id }, state: In(['running', 'waiting'] satisfies StepState[]) },
          { state: 'interrupted', finishedAt: currentTime() },
        );
        await this.runs.update(run.id, {
          state: 'interrupted',
          finishedAt: currentTime(),
          error: `${isDiskFull() ? `The disk is full, and the database ended while this run was going on. ${leftOnDisk()}Make room first.` : 'The server, or its database, ended while this run was going on.'} ${run.kind === 'release' ? 'Production is unchanged: release again.' : 'Nothing is half-built: continue it to do the rest.'}`,
        });
      });
    }
  }

  /** Does something about a run that no process works on, while none can begin to. */
  async unlessWorkedOn(id: number, body: () => Promise<unknown>): Promise<void> {
    if (this.working.has(id)) return;
    const lock = await this.lock(id);
    if (!lock) return;
    try {
      await body();
    } finally {
      await lock.release();
    }
  }

  /** A run is queued in the transaction that makes it: one that a killed process left without a job would wait for ever. */
  async add({ id, environment }: Pick<Run, 'id' | 'environment'>, manager: EntityManager): Promise<void> {
    await manager.query(
      'select graphile_worker.add_job($1, payload => $2::json, queue_name => $3, max_attempts => 1, job_key => $4)',
      [TASK, JSON.stringify({ run: id }), `environment:${environment}`, `run:${id}`],
    );
  }

  /** Does something while no run of an environment is worked on, nor what follows from one; waits for those that are. */
  async whileNoneIn(environment: string, body: () => Promise<unknown>): Promise<void> {
    const client = await this.connect();
    try {
      await client.query(ALONE, [environment]);
      await body();
    } finally {
      await client.end();
    }
  }

  private async connect(): Promise<pg.Client> {
    const client = new pg.Client(this.config.application);
    client.on('error', (error) => logger.warn(error));
    await client.connect();
    return client;
  }

  /** The run's lock on a connection of its own; undefined when another process has it. */
  async lock(id: number): Promise<RunLock | undefined> {
    const client = await this.connect();
    const { rows } = await client
      .query<{ got: boolean }>('select pg_try_advisory_lock(1869968758, $1) as got', [id])
      .catch(async (error: unknown) => {
        await client.end().catch(() => undefined);
        throw error;
      });
    if (rows[0]?.got)
      return {
        release: () => client.end(),
        aloneIn: async (environment) => void (await client.query(ALONE, [environment])),
      };
    await client.end();
    return undefined;
  }
}
