import type { CheckOutcome, LoadEntry, StateAnswer } from '@ouvrage/api/quality';
import type { Sent } from '../shared/answers.js';
import { Controller, Get, Module, Param, Query } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import { ProjectModule } from '../project/project.module.js';
import { CheckResult } from '../run/run.entities.js';
import { Text } from '../shared/fields.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { QualityService } from './quality.service.js';

class CheckQueryParameters {
  @Text(3, 300)
  id: string;
}

class TableQueryParameters {
  @Text(3, 200)
  table: string;
}

@ApiTags('quality')
@Controller('api/workspaces/:slug')
export class QualityController {
  constructor(private readonly quality: QualityService) {}

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

  /** The loads of one table, newest first. */
  @Get('loads')
  loads(@Param('slug') slug: string, @Query() { table }: TableQueryParameters): Promise<Sent<readonly LoadEntry[]>> {
    return this.quality.loads(slug, table);
  }
}

@Module({
  imports: [TypeOrmModule.forFeature([CheckResult]), ProjectModule, WarehouseModule],
  controllers: [QualityController],
  providers: [QualityService],
  exports: [QualityService],
})
export class QualityModule {}
