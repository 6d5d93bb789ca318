import { Body, Controller, Get, HttpCode, Module, Param, Post } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import type { IncidentDetail, IncidentList, IncidentSubject as SubjectOut } from '@ouvrage/api/incident';
import { SEVERITIES, type Severity } from '@ouvrage/core/language';
import { IsIn, IsOptional, IsString, Length } from 'class-validator';
import { Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { QualityModule } from '../quality/quality.module.js';
import { Run } from '../run/run.entities.js';
import { RunModule } from '../run/run.module.js';
import type { Sent } from '../shared/answers.js';
import { Optional, OptionalText, RowId, Text, Whole } from '../shared/fields.js';
import { SourceModule } from '../source/source.module.js';
import { WatchModule } from '../watch/watch.module.js';
import { Incident, IncidentEvent, IncidentSubject } from './incident.entities.js';
import { IncidentFollower } from './incident-follower.js';
import { IncidentService } from './incident.service.js';
import { IncidentView } from './incident-view.js';

const KINDS = ['check', 'load', 'source', 'measure'] as const;
const LONGEST = 10_000;

class SubjectBody {
  @IsIn(KINDS)
  @ApiProperty({ type: String, enum: KINDS })
  kind: SubjectOut['kind'];

  /** The check's id, the table, or `core.fact_dues/rows`. */
  @Text(1, 300)
  subject: string;
}

class OpeningBody extends SubjectBody {
  @OptionalText(300)
  title?: string;

  @Optional()
  @IsIn(SEVERITIES)
  @ApiProperty({ type: String, enum: SEVERITIES, required: false })
  severity?: Severity;

  @OptionalText(LONGEST)
  description?: string;
}

class ChangeBody {
  @Optional()
  @Text(1, 300)
  title?: string;

  @Optional()
  @IsIn(SEVERITIES)
  @ApiProperty({ type: String, enum: SEVERITIES, required: false })
  severity?: Severity;

  @OptionalText(LONGEST)
  description?: string;

  /** Null for nobody. */
  @IsOptional()
  @IsString()
  @Length(1, 100)
  @ApiProperty({ type: String, maxLength: 100, nullable: true, required: false })
  lead?: string | null;
}

class RemarkBody {
  @Text(1, LONGEST)
  text: string;
}

class ClosingBody {
  @Text(1, LONGEST)
  learned: string;

  /** Why, where something does not hold. */
  @OptionalText(LONGEST)
  though?: string;
}

class MergeBody {
  @Whole(1, 2_147_483_647)
  into: number;
}

@ApiTags('incidents')
@Controller('api/incidents')
export class IncidentController {
  constructor(
    private readonly incidents: IncidentService,
    private readonly view: IncidentView,
  ) {}

  /** Incidents of production: open ones first, then the newest. */
  @Get()
  list(): Promise<Sent<IncidentList>> {
    return this.incidents.list();
  }

  /** Opens one about a check, a load or a late source. */
  @Needs('editor')
  @Post()
  async open(@Me() me: Person, @Body() body: OpeningBody): Promise<Sent<IncidentDetail>> {
    return this.view.detail((await this.incidents.open(me, body)).id);
  }

  /** One incident with what happened, what it affects and what may be its cause. */
  @Get(':id')
  get(@Param('id', RowId) id: number): Promise<Sent<IncidentDetail>> {
    return this.view.detail(id);
  }

  /** Takes it in hand. */
  @Needs('editor')
  @Post(':id/take')
  @HttpCode(204)
  async take(@Me() me: Person, @Param('id', RowId) id: number): Promise<void> {
    await this.incidents.take(me, id);
  }

  /** Gives it another title, severity, description or lead. */
  @Needs('editor')
  @Post(':id/changes')
  @HttpCode(204)
  async change(@Me() me: Person, @Param('id', RowId) id: number, @Body() body: ChangeBody): Promise<void> {
    await this.incidents.change(me, id, body);
  }

  /** Adds a remark. */
  @Needs('editor')
  @Post(':id/remarks')
  @HttpCode(204)
  async remark(@Me() me: Person, @Param('id', RowId) id: number, @Body() { text }: RemarkBody): Promise<void> {
    await this.incidents.remark(me, id, text);
  }

  /** Closes it with what was learned. */
  @Needs('editor')
  @Post(':id/close')
  @HttpCode(204)
  async close(@Me() me: Person, @Param('id', RowId) id: number, @Body() body: ClosingBody): Promise<void> {
    await this.incidents.close(me, id, body);
  }

  /** Opens a closed one again. */
  @Needs('editor')
  @Post(':id/reopen')
  @HttpCode(204)
  async reopen(@Me() me: Person, @Param('id', RowId) id: number, @Body() { text }: RemarkBody): Promise<void> {
    await this.incidents.reopen(me, id, text);
  }

  /** Closes it, and goes on with what it is about in another one. */
  @Needs('editor')
  @Post(':id/merge')
  @HttpCode(204)
  async merge(@Me() me: Person, @Param('id', RowId) id: number, @Body() { into }: MergeBody): Promise<void> {
    await this.incidents.merge(me, id, into);
  }

  /** Makes one of several things that it is about an incident of its own. */
  @Needs('editor')
  @Post(':id/split')
  async split(
    @Me() me: Person,
    @Param('id', RowId) id: number,
    @Body() body: SubjectBody,
  ): Promise<Sent<IncidentDetail>> {
    return this.view.detail((await this.incidents.split(me, id, body)).id);
  }
}

@Module({
  imports: [
    TypeOrmModule.forFeature([Incident, IncidentEvent, IncidentSubject, Run]),
    PeopleModule,
    ProjectModule,
    QualityModule,
    RunModule,
    SourceModule,
    WatchModule,
  ],
  controllers: [IncidentController],
  providers: [IncidentService, IncidentView, IncidentFollower],
  exports: [IncidentService],
})
export class IncidentModule {}
