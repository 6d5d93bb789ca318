import { Body, Controller, Get, HttpCode, Module, Param, Post, Put } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import type { JobEntry, JobStartEntry } from '@ouvrage/api/job';
import { ForTokens, Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { PeopleService } from '../people/people.service.js';
import { ProjectModule } from '../project/project.module.js';
import { RunModule } from '../run/run.module.js';
import type { Sent } from '../shared/answers.js';
import { Flag } from '../shared/fields.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { JobStart, JobState } from './job.entities.js';
import { JobListService } from './job-list.service.js';
import { JobRuns } from './job-runs.service.js';
import { JobService } from './job.service.js';

class PauseBody {
  /** Whether nothing starts it from now on. */
  @Flag()
  paused: boolean;
}

@ApiTags('jobs')
@Controller('api/jobs')
export class JobController {
  constructor(
    private readonly lists: JobListService,
    private readonly jobs: JobService,
    private readonly people: PeopleService,
  ) {}

  /** The jobs of production, each with its next starts and its past. */
  @Get()
  list(): Promise<Sent<readonly JobEntry[]>> {
    return this.lists.list();
  }

  /** Starts a job now. */
  @Needs('releaser')
  @ForTokens('run')
  @Post(':name/start')
  async start(@Me() me: Person, @Param('name') name: string): Promise<Sent<JobStartEntry>> {
    const job = await this.lists.job(name);
    await this.people.audit(me, 'job started', name);
    return this.lists.startOf(await this.jobs.startNow(job, me.displayName));
  }

  /** Pauses a job, or lets it start again. */
  @Needs('releaser')
  @Put(':name/pause')
  @HttpCode(204)
  async pause(@Me() me: Person, @Param('name') name: string, @Body() { paused }: PauseBody): Promise<void> {
    const job = await this.lists.job(name);
    await this.jobs.pause(job, paused ? me.displayName : null);
    await this.people.audit(me, paused ? 'job paused' : 'job resumed', name);
  }
}

/** Jobs of production: what is loaded together, and when. */
@Module({
  imports: [TypeOrmModule.forFeature([JobState, JobStart]), PeopleModule, ProjectModule, WarehouseModule, RunModule],
  controllers: [JobController],
  providers: [JobListService, JobRuns, JobService],
})
export class JobModule {}
