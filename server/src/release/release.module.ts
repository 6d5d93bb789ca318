import type {
  ComparedTexts,
  Comparison,
  KeptCopies,
  ReleaseDetail,
  ReleasedTexts,
  ReleaseEntry,
  RestorePlan,
  TodayAnswer,
  WayBack,
} from '@ouvrage/api/release';
import type { RunEntry } from '@ouvrage/api/run';
import type { Sent } from '../shared/answers.js';
import { Body, Controller, Get, HttpCode, Module, Param, Post, Put, Query } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import { ForTokens, Me, Needs, NotForTokens, Rights, type TokenRight } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { Workspace } from '../project/project.entities.js';
import { ProjectModule } from '../project/project.module.js';
import { IncidentModule } from '../incident/incident.module.js';
import { QualityModule } from '../quality/quality.module.js';
import { ReviewModule } from '../review/review.module.js';
import { runOut } from '../run/run.controller.js';
import { CheckResult, Release, Run } from '../run/run.entities.js';
import { RunModule } from '../run/run.module.js';
import { Flag, Names, Optional, ProjectPath, RowId, Text, TextsByName, Whole } from '../shared/fields.js';
import { ConnectionModule } from '../connection/connection.module.js';
import { DeliveryModule } from '../delivery/delivery.module.js';
import { SourceModule } from '../source/source.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { ReleaseCompletion } from './release-completion.js';
import { ReleaseCosts } from './release-cost.js';
import { Problem } from '../shared/problem.js';
import { RestoreService } from './restore.service.js';
import { Setting } from '../shared/setting.entity.js';
import { ReleasedService } from './released.service.js';
import { ReleaseService } from './release.service.js';
import { TodayService } from './today.service.js';
import { WorkspaceDeletion } from './workspace-deletion.js';

class ReleaseBody {
  @Text(1, 5000, 'Dues by measured tonnage')
  message: string;

  /** What may be dropped for good: tables, and columns of tables that keep rows. */
  @Optional()
  @Names(500)
  consents?: string[];

  /** What is done with the rows of a table that keeps them; the usual thing where nothing is said. */
  @TextsByName({ most: 5000, longest: 100 })
  treatments?: Record<string, string>;

  /** Why it is released without what its review needs; administrators alone may. */
  @Optional()
  @Text(1, 5000)
  override?: string;
}

class WayBackBody {
  /** Whether its release puts back the copies that were kept; today's rows are kept where this is not said. */
  @Optional()
  @Flag()
  restores?: boolean;
}

class KeptDaysBody {
  /** For how many days copies are kept; 0 keeps none. */
  @Whole(0, 365)
  days: number;
}

class DeletionBody {
  /** Paths of drafts and ids of commits that may be lost. */
  @Optional()
  @Names(5000)
  consents?: string[];
}

class FileQuery {
  @ProjectPath()
  path: string;
}

@ApiTags('releases')
@Controller('api')
export class ReleaseController {
  constructor(
    private readonly releases: ReleaseService,
    private readonly todays: TodayService,
    private readonly deletion: WorkspaceDeletion,
    private readonly released: ReleasedService,
    private readonly restoring: RestoreService,
  ) {}

  /** Releases, newest first. */
  @Get('releases')
  list(): Promise<Sent<readonly ReleaseEntry[]>> {
    return this.releases.list();
  }

  /** One release: its review, its files, what its run did. */
  @Get('releases/:id')
  detail(@Param('id', RowId) id: number): Promise<Sent<ReleaseDetail>> {
    return this.released.detail(id);
  }

  /** A file before and after a release, with who wrote each line. */
  @Get('releases/:id/file')
  releasedFile(@Param('id', RowId) id: number, @Query() { path }: FileQuery): Promise<Sent<ReleasedTexts>> {
    return this.released.texts(id, path);
  }

  /** Opens a workspace with the definitions from before a release, to be reviewed and released as any other. */
  @Needs('editor')
  @ForTokens('write')
  @Post('releases/:id/way-back')
  async wayBack(
    @Me() me: Person,
    @Param('id', RowId) id: number,
    @Body() { restores = false }: WayBackBody,
  ): Promise<Sent<WayBack>> {
    const { slug } = await this.releases.wayBack(me, id, { restores });
    return { slug };
  }

  /** How production would go back to before a release by the copies that are kept. */
  @Get('releases/:id/restore')
  async restorePlan(@Param('id', RowId) id: number): Promise<Sent<RestorePlan>> {
    return (await this.restoring.plan(id)).plan;
  }

  /** What releases have kept, and for how long. */
  @NotForTokens()
  @Get('kept-copies')
  kept(): Promise<Sent<KeptCopies>> {
    return this.restoring.kept();
  }

  /** Changes how long copies are kept; older ones go at once. */
  @Needs('administrator')
  @Put('kept-copies')
  @HttpCode(204)
  async keepFor(@Me() me: Person, @Body() { days }: KeptDaysBody): Promise<void> {
    await this.restoring.keepFor(me, days);
  }

  /** What releasing a workspace would change: definitions, rows that go, what is in the way. */
  @Get('workspaces/:slug/comparison')
  compare(@Param('slug') slug: string): Promise<Sent<Comparison>> {
    return this.releases.compare(slug);
  }

  /** One of the files that a release would change, before and after. */
  @Get('workspaces/:slug/comparison/file')
  texts(@Param('slug') slug: string, @Query() { path }: FileQuery): Promise<Sent<ComparedTexts>> {
    return this.releases.texts(slug, path);
  }

  /** Releases a workspace; it is queued. */
  @Needs('releaser')
  @ForTokens('release')
  @Post('workspaces/:slug/release')
  async release(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { message, consents, treatments, override }: ReleaseBody,
    @Rights() rights: readonly TokenRight[] | undefined,
  ): Promise<Sent<RunEntry>> {
    if (rights && override !== undefined)
      throw new Problem(403, 'not-for-tokens', 'No access token may override a review', 'Sign in and do it yourself.');
    if (rights && consents?.length && !rights.includes('consent'))
      throw new Problem(
        403,
        'token-right',
        'The access token lacks the right consent',
        'Release what drops nothing with it, or make one with more rights under Settings.',
      );
    return runOut(
      await this.releases.ask(me, slug, { message, consents: consents ?? [], treatments: treatments ?? {}, override }),
    );
  }

  /** Deletes a workspace: its drafts, its branch, its tables. What is not released needs consent. */
  @Needs('editor')
  @Post('workspaces/:slug/deletion')
  @HttpCode(204)
  async delete(@Me() me: Person, @Param('slug') slug: string, @Body() { consents }: DeletionBody): Promise<void> {
    await this.deletion.delete(me, slug, consents ?? []);
  }

  /** What needs a person. */
  @Get('workspaces/:slug/today')
  today(@Me() me: Person, @Param('slug') slug: string): Promise<Sent<TodayAnswer>> {
    return this.todays.today(slug, me);
  }
}

@Module({
  imports: [
    TypeOrmModule.forFeature([Release, Run, CheckResult, Workspace, Setting]),
    PeopleModule,
    ConnectionModule,
    ProjectModule,
    RunModule,
    SourceModule,
    DeliveryModule,
    WarehouseModule,
    QualityModule,
    IncidentModule,
    ReviewModule,
  ],
  controllers: [ReleaseController],
  providers: [
    ReleaseCompletion,
    ReleaseCosts,
    ReleaseService,
    TodayService,
    WorkspaceDeletion,
    ReleasedService,
    RestoreService,
  ],
  exports: [ReleaseService],
})
export class ReleaseModule {}
