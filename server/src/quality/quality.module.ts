import type { CheckOutcome, CheckSeries, LoadEntry, QualityDay, QualityDays, StateAnswer } from '@ouvrage/api/quality';
import { fileAnswer, type Sent } from '../shared/answers.js';
import type { Response } from 'express';
import { Controller, Get, Module, Param, Query, Res, StreamableFile } from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import { Readable } from 'node:stream';
import { IsIn, IsISO8601, IsTimeZone, Length } from 'class-validator';
import { PRODUCTION } from '../project/branches.js';
import { ProjectModule } from '../project/project.module.js';
import { CheckResult } from '../run/run.entities.js';
import { Optional, OptionalWhole, Text } from '../shared/fields.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { verdictsAsCsv, verdictsAsJunit } from './quality-files.js';
import { QualityOverTime } from './quality-over-time.service.js';
import { QualityService } from './quality.service.js';

const environmentOf = (slug: string, of: 'here' | 'production' | undefined) =>
  of === 'production' ? PRODUCTION : slug;

class CheckQueryParameters {
  @Text(3, 300)
  id: string;
}

/** Days are those of a zone, of one environment: the workspace's own runs, or production's. */
class DaysQuery {
  @Optional()
  @IsIn(['here', 'production'])
  @ApiProperty({ type: String, required: false, enum: ['here', 'production'] })
  of?: 'here' | 'production';

  @Optional()
  @IsTimeZone()
  @Length(1, 60)
  @ApiProperty({ type: String, required: false, maxLength: 60, example: 'Europe/Paris' })
  zone?: string;

  @OptionalWhole(1, 366)
  days?: number;
}

class DayQuery extends DaysQuery {
  @Text(3, 200)
  table: string;

  @IsISO8601({ strict: true })
  @Length(10, 10)
  @ApiProperty({ type: String, minLength: 10, maxLength: 10, example: '2026-11-30' })
  day: string;
}

class SeriesQuery extends DaysQuery {
  @Text(3, 300)
  id: string;
}

class FileQuery extends DaysQuery {
  @IsIn(['csv', 'junit'])
  @ApiProperty({ type: String, enum: ['csv', 'junit'] })
  format: 'csv' | 'junit';
}

class TableQueryParameters {
  @Text(3, 200)
  table: string;
}

@ApiTags('quality')
@Controller('api/workspaces/:slug')
export class QualityController {
  constructor(
    private readonly quality: QualityService,
    private readonly overTime: QualityOverTime,
  ) {}

  /** Tables and checks with where they are and how they hold. */
  @Get('state')
  async state(@Param('slug') slug: string): Promise<Sent<StateAnswer>> {
    const { tables, checks } = await this.quality.state(slug);
    return {
      tables: tables.filter((t) => t.where !== 'nowhere' || t.verdict !== 'not run'),
      checks: checks
        .filter((c) => c.verdict !== 'not run')
        .map(({ id, verdict, atFault, total, at, run, environment }) => ({
          id,
          verdict,
          atFault,
          total,
          at,
          run,
          environment,
        })),
    };
  }

  /** Verdicts on one check, newest first. */
  @Get('check-history')
  history(@Param('slug') slug: string, @Query() { id }: CheckQueryParameters): Promise<Sent<readonly CheckOutcome[]>> {
    return this.quality.history(slug, id);
  }

  /** The worst verdict of each table on each day. */
  @Get('quality/days')
  days(@Param('slug') slug: string, @Query() { of, zone, days }: DaysQuery): Promise<Sent<QualityDays>> {
    return this.overTime.days({ environment: environmentOf(slug, of), zone: zone ?? 'UTC', days: days ?? 30 });
  }

  /** What ran of a table on a day. */
  @Get('quality/day')
  day(@Param('slug') slug: string, @Query() { of, zone, table, day }: DayQuery): Promise<Sent<QualityDay>> {
    return this.overTime.day(table, { environment: environmentOf(slug, of), zone: zone ?? 'UTC', day });
  }

  /** Verdicts as a file: all of the days as CSV, the newest of each check as JUnit XML. */
  @Get('quality/export')
  @ApiOkResponse(fileAnswer(['text/csv', 'application/xml']))
  async file(
    @Param('slug') slug: string,
    @Query() { of, zone, days, format }: FileQuery,
    @Res({ passthrough: true }) response: Response,
  ): Promise<StreamableFile> {
    const environment = environmentOf(slug, of);
    const text =
      format === 'csv'
        ? verdictsAsCsv(this.overTime.points({ environment, zone: zone ?? 'UTC', days: days ?? 30 }))
        : [verdictsAsJunit(environment, (await this.quality.state(environment)).checks)];
    response.setHeader('Content-Type', format === 'csv' ? 'text/csv; charset=utf-8' : 'application/xml; charset=utf-8');
    response.setHeader(
      'Content-Disposition',
      `attachment; filename="quality_${environment}.${format === 'csv' ? 'csv' : 'xml'}"`,
    );
    return new StreamableFile(Readable.from(text));
  }

  /** A check over time, with releases, and what changed before it stopped holding. */
  @Get('quality/series')
  series(@Param('slug') slug: string, @Query() { of, id }: SeriesQuery): Promise<Sent<CheckSeries>> {
    return this.overTime.series(slug, environmentOf(slug, of), id);
  }

  /** The loads of one table, newest first. */
  @Get('loads')
  loads(@Param('slug') slug: string, @Query() { table }: TableQueryParameters): Promise<Sent<readonly LoadEntry[]>> {
    return this.quality.loads(slug, table);
  }
}

@Module({
  imports: [TypeOrmModule.forFeature([CheckResult]), ProjectModule, WarehouseModule],
  controllers: [QualityController],
  providers: [QualityService, QualityOverTime],
  exports: [QualityService],
})
export class QualityModule {}
