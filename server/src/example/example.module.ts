import { Body, Controller, Get, HttpCode, Module, Param, Post, Query, Req } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import type { BegunExample, ExampleState } from '@ouvrage/api/example';
import { ArrayMaxSize, IsArray, ValidateBy } from 'class-validator';
import type { Request } from 'express';
import { ForTokens, Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { ProjectModule } from '../project/project.module.js';
import type { Sent } from '../shared/answers.js';
import { Names, OptionalText, Text } from '../shared/fields.js';
import { leaving } from '../shared/leaving.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { LookModule } from '../look/look.module.js';
import { LookTurns } from '../look/look-turns.js';
import { KeptOutcome } from './example.entities.js';
import { ExampleBegin } from './example-begin.service.js';
import { ExampleRunner } from './example-runner.js';
import { ExampleService } from './example.service.js';

class ExamplesQuery {
  @OptionalText(200)
  table?: string;
}

class ExamplesBody extends ExamplesQuery {
  /** One example of the table; all of them without it. */
  @OptionalText(200)
  name?: string;
}

class BeginBody {
  @Text(3, 200, 'core.fact_call')
  table: string;

  @Text(1, 80, 'no berth yet')
  name: string;

  /** Columns of the rows. */
  @Names(1600)
  columns: string[];

  /** Rows of a preview, values as texts. */
  @IsArray()
  @ArrayMaxSize(20)
  @IsArray({ each: true })
  @ValidateBy({
    name: 'rowsOfTexts',
    validator: {
      validate: (rows: unknown) =>
        Array.isArray(rows) &&
        rows.every(
          (row) =>
            Array.isArray(row) &&
            row.length <= 1600 &&
            row.every((v) => v === null || (typeof v === 'string' && v.length <= 10_000)),
        ),
      defaultMessage: () => 'rows must hold texts and nulls',
    },
  })
  @ApiProperty({ type: 'array', items: { type: 'array', items: { type: 'string', nullable: true } } })
  rows: (string | null)[][];
}

@ApiTags('examples')
@Controller('api/workspaces/:slug/examples')
export class ExampleController {
  constructor(
    private readonly examples: ExampleService,
    private readonly beginning: ExampleBegin,
    private readonly turns: LookTurns,
  ) {}

  /** Worked examples with what was last found of them, as they are now. */
  @Get()
  states(@Param('slug') slug: string, @Query() asked: ExamplesQuery): Promise<Sent<readonly ExampleState[]>> {
    return this.examples.states(slug, asked);
  }

  /** Examples that may come to something else than in production; those that did not run yet begin to. */
  @Get('changed')
  changed(@Param('slug') slug: string): Promise<Sent<readonly ExampleState[]>> {
    return this.examples.review(slug);
  }

  /** Runs examples, and answers when they have ended. */
  @Needs('editor')
  @ForTokens('run')
  @Post('runs')
  @HttpCode(200)
  run(@Param('slug') slug: string, @Body() asked: ExamplesBody): Promise<Sent<readonly ExampleState[]>> {
    return this.examples.run(slug, asked);
  }

  /** The files of an example of rows, with the input rows that made them; nothing is saved. */
  @Needs('editor')
  @Post('begin')
  @HttpCode(200)
  begin(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() asked: BeginBody,
    @Req() request: Request,
  ): Promise<Sent<BegunExample>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.beginning.begin(slug, asked, signal));
  }
}

@Module({
  imports: [TypeOrmModule.forFeature([KeptOutcome]), LookModule, ProjectModule, WarehouseModule],
  controllers: [ExampleController],
  providers: [ExampleService, ExampleRunner, ExampleBegin],
  exports: [ExampleService],
})
export class ExampleModule {}
