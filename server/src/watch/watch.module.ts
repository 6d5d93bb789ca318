import { Body, Controller, Get, HttpCode, Module, Post, Query } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import type { WatchFinding, WatchSeries } from '@ouvrage/api/watch';
import { IsISO8601, IsOptional, Length } from 'class-validator';
import { Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { Release, Run, RunStep } from '../run/run.entities.js';
import { RunModule } from '../run/run.module.js';
import type { Sent } from '../shared/answers.js';
import { Text } from '../shared/fields.js';
import { SourceModule } from '../source/source.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { Measurement, WatchLesson } from './watch.entities.js';
import { WatchFollower } from './watch-follower.js';
import { WatchService } from './watch.service.js';

class SeriesQuery {
  @Text(3, 200)
  table: string;
}

class LessonBody {
  @Text(3, 200)
  table: string;

  @Text(1, 200)
  measure: string;

  /** The day until which nothing is told; without one, the newest value is normal from now on. */
  @IsOptional()
  @IsISO8601({ strict: true })
  @Length(10, 10)
  @ApiProperty({ type: String, maxLength: 10, nullable: true, required: false, example: '2026-12-31' })
  until?: string | null;
}

@ApiTags('watches')
@Controller('api/watches')
export class WatchController {
  constructor(private readonly watches: WatchService) {}

  /** What is outside of what was expected, of the newest load of each table. */
  @Get()
  findings(): Promise<Sent<readonly WatchFinding[]>> {
    return this.watches.findings();
  }

  /** A table's measures over time, and what is expected next. */
  @Get('series')
  series(@Query() { table }: SeriesQuery): Promise<Sent<readonly WatchSeries[]>> {
    return this.watches.series(table);
  }

  /** Teaches a watch that its newest value is normal, or to tell nothing until a day. */
  @Needs('editor')
  @Post('lessons')
  @HttpCode(204)
  async teach(@Me() me: Person, @Body() { table, measure, until }: LessonBody): Promise<void> {
    await this.watches.teach(me, { table, measure, until: until ? new Date(`${until}T00:00:00Z`) : null });
  }
}

@Module({
  imports: [
    TypeOrmModule.forFeature([Measurement, WatchLesson, Run, RunStep, Release]),
    PeopleModule,
    ProjectModule,
    RunModule,
    SourceModule,
    WarehouseModule,
  ],
  controllers: [WatchController],
  providers: [WatchService, WatchFollower],
  exports: [WatchService],
})
export class WatchModule {}
