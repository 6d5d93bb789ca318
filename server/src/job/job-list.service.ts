import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { JobEntry, JobStartEntry } from '@ouvrage/api/job';
import { jobTables } from '@ouvrage/core/graph';
import { jobSpec } from '@ouvrage/core/language';
import type { Job, Project } from '@ouvrage/core/model';
import { nextStarts, scheduleWords } from '@ouvrage/core/schedule';
import { didYouMean } from '@ouvrage/core/sql';
import { In, Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Run } from '../run/run.entities.js';
import type { Sent } from '../shared/answers.js';
import { Problem } from '../shared/problem.js';
import { currentTime } from '../shared/time.js';
import { JobStart, JobState } from './job.entities.js';

const SHOWN_STARTS = 40;
const SHOWN_NEXT = 5;

/** What there is to see of production's jobs. */
@Injectable()
export class JobListService {
  constructor(
    @InjectRepository(JobState) private readonly states: Repository<JobState>,
    @InjectRepository(JobStart) private readonly starts: Repository<JobStart>,
    private readonly projects: ProjectService,
  ) {}

  /** @throws Problem 404 with the nearest name of a job */
  async job(name: string): Promise<Job> {
    const { jobs } = (await this.projects.line(PRODUCTION)).project;
    const job = jobs.get(name);
    if (!job) throw new Problem(404, 'not-found', `Production has no job ${name}`, didYouMean(name, jobs.keys()));
    return job;
  }

  async list(): Promise<Sent<JobEntry>[]> {
    const { project } = await this.projects.line(PRODUCTION);
    const states = new Map((await this.states.find()).map((s) => [s.job, s]));
    const jobs = [...project.jobs.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
    return Promise.all(jobs.map((job) => this.entry(project, job, states.get(job.name))));
  }

  private async entry(project: Project, job: Job, state: JobState | undefined): Promise<Sent<JobEntry>> {
    const { cron, zone, parameters, timeLimit, parallel, ...spec } = jobSpec(job);
    const found = await this.starts.find({ where: { job: job.name }, order: { id: 'DESC' }, take: SHOWN_STARTS });
    const runs = await this.runsOf(found);
    const error = project.diagnostics.find((d) => d.path === job.path && d.severity === 'error')?.message ?? null;
    const timed = error === null ? cron : undefined;
    const { after, onDelivery, needs, onlyStale, retries } = spec;
    return {
      ...{ name: job.name, path: job.path, comment: job.comment ?? null },
      words: timed ? scheduleWords(timed, zone) : null,
      zone,
      next:
        timed && !state?.pausedBy
          ? nextStarts({ cron: timed, zone }, currentTime().getTime(), SHOWN_NEXT).map((n) => new Date(n))
          : [],
      ...{ after, onDelivery, needs, onlyStale, retries },
      parallel: parallel ?? null,
      timeLimit: timeLimit ?? null,
      parameters: Object.fromEntries(parameters),
      tables: jobTables(job, project.tables),
      error,
      paused: state?.pausedBy ? { by: state.pausedBy, at: state.pausedAt! } : null,
      starts: found.map((s) => startEntry(s, runs)),
    };
  }

  private async runsOf(starts: readonly JobStart[]): Promise<ReadonlyMap<number, Run>> {
    const ids = starts.flatMap((s) => (s.runId === null ? [] : [s.runId]));
    const runs = ids.length ? await this.starts.manager.findBy(Run, { id: In(ids) }) : [];
    return new Map(runs.map((r) => [r.id, r]));
  }

  async startOf(start: JobStart): Promise<Sent<JobStartEntry>> {
    return startEntry(start, await this.runsOf([start]));
  }
}

function startEntry(start: JobStart, runs: ReadonlyMap<number, Run>): Sent<JobStartEntry> {
  const { id, cause, of, scheduledAt, state, reason, attempt, person } = start;
  const run = start.runId === null ? undefined : runs.get(start.runId);
  return {
    ...{ id, cause, of, scheduledAt, state, reason, attempt, person },
    run: run ? { id: run.id, state: run.state, startedAt: run.startedAt, finishedAt: run.finishedAt } : null,
  };
}
