import { Inject, Injectable } from '@nestjs/common';
import { isView, jobSpec } from '@ouvrage/core/language';
import { jobTables, reachable, staleTables } from '@ouvrage/core/graph';
import type { Job, Project } from '@ouvrage/core/model';
import { changeFiles } from '@ouvrage/core/resolve';
import { startOfDay } from '@ouvrage/core/schedule';
import type { Person } from '../people/people.entities.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { parameterFiles } from '../run/parameter-files.js';
import type { Run } from '../run/run.entities.js';
import { planTables } from '../run/run-plan.js';
import { RunService } from '../run/run.service.js';
import { Config } from '../shared/config.js';
import { currentTime } from '../shared/time.js';
import type { Standing } from '../warehouse/loaded.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import type { JobStart } from './job.entities.js';

/** Asks for the runs of jobs in production. */
@Injectable()
export class JobRuns {
  constructor(
    @Inject(Config) private readonly config: Config,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly runs: RunService,
  ) {}

  /**
   * Asks for the run of a start.
   * @returns undefined where nothing of the job is stale
   * @throws Problem where its tables have errors, or read what is not there
   */
  async ask(job: Job, start: JobStart): Promise<Run | undefined> {
    const line = await this.projects.line(PRODUCTION);
    const spec = jobSpec(job);
    const parameters = Object.fromEntries(spec.parameters);
    const overlay = parameterFiles(line.project, parameters);
    const project = overlay.size ? changeFiles(line.project, overlay) : line.project;
    const standings = await this.warehouse.standings(project, line.environment, line.environment);
    const own = jobTables(job, project.tables);
    const chosen = this.chosen(project, own, { job, standings });
    if (chosen.size === 0) return undefined;
    return this.runs.queue(
      byJob(job.name, start.person),
      {
        kind: 'build',
        environment: PRODUCTION,
        commit: line.commit,
        job: job.name,
        jobStart: start.id,
        request: {
          tables: own,
          upstream: spec.needs !== 'none',
          downstream: false,
          parallelism: spec.parallel ?? this.config.atATime,
          parameters,
          drafts: Object.fromEntries(overlay),
        },
      },
      planTables(project, chosen, standings),
    );
  }

  /** The tables of a job and what they need, by what the job says of both. */
  private chosen(
    project: Project,
    own: readonly string[],
    { job, standings }: { readonly job: Job; readonly standings: ReadonlyMap<string, Standing> },
  ): Set<string> {
    const { needs, onlyStale, zone } = jobSpec(job);
    const today = startOfDay(currentTime().getTime(), zone);
    const loads = new Map(
      [...standings].flatMap(([name, { loaded }]) =>
        loaded ? [[name, { fingerprint: loaded.fingerprint, at: Date.parse(loaded.at) }] as const] : [],
      ),
    );
    const stale = staleTables(project, loads, today);
    // A view that is there shows its rows as they are: it is not made again each night.
    const isLoaded = (name: string) => {
      const table = project.tables.get(name)!;
      return table.kind === 'definition' && isView(table) ? !standings.get(name)?.place : true;
    };
    const upstream = [...reachable(project.needs, own).keys()].filter(
      (name) => !own.includes(name) && project.tables.get(name)?.kind !== 'source' && isLoaded(name),
    );
    return new Set([
      ...own.filter((name) => !onlyStale || stale.has(name)),
      ...(needs === 'none' ? [] : upstream.filter((name) => needs === 'all' || stale.has(name))),
    ]);
  }

  /** Goes on with what a run of a job did not finish. */
  again(job: string, run: number, start: number): Promise<Run> {
    return this.runs.goOn(byJob(job, null), run, start);
  }

  async stop(job: string, run: number): Promise<void> {
    await this.runs.stop(byJob(job, null), run);
  }
}

/** Who a run is asked for by: a person, or the job itself. */
const byJob = (job: string, person: string | null): Person =>
  ({ name: person ?? `job ${job}`, displayName: person ?? `job ${job}` }) as Person;
