import type { CastsAnswer, ExportTicket, PreviewColumn, Rows } from '@ouvrage/api/rows';
import type { StepError } from '@ouvrage/api/run';
import { fileAnswer, type Sent } from '../shared/answers.js';
import { Body, Controller, Get, HttpCode, Param, ParseUUIDPipe, Post, Req, Res } from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import { Type } from 'class-transformer';
import {
  ArrayMaxSize,
  ArrayMinSize,
  IsArray,
  IsIn,
  IsNumber,
  IsString,
  Length,
  Max,
  Min,
  ValidateNested,
} from 'class-validator';
import type { Request, Response } from 'express';
import { Names, Optional, OptionalOf, OptionalWhole, ProjectPath, Text, Whole } from '../shared/fields.js';
import { Me } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { CONTENT_TYPES, EXPORT_FORMATS, sinkOf, type ExportFormat } from './export-formats.js';
import { ExportTickets } from './export-tickets.js';
import { LookService, refuseRepeated } from './look.service.js';
import { LookTurns } from './look-turns.js';
import { SeenService } from './seen.js';
import { unfitCondition } from './parquet-types.js';
import { leaving } from '../shared/leaving.js';
import { PreviewService } from './preview.service.js';

/** Which input is thinned out, and how: a share of its rows, or some rows of each value. */
class SampleBody {
  @Text(3, 200)
  table: string;

  @Optional()
  @IsNumber()
  @Min(0)
  @Max(1)
  @ApiProperty({ type: Number, required: false })
  share?: number;

  @Optional()
  @Names(20)
  by?: string[];

  @OptionalWhole(1, 10_000)
  each?: number;
}

class TextBody {
  @ProjectPath()
  path: string;

  @IsString()
  @Length(0, 2_000_000)
  @ApiProperty({ type: String })
  text: string;
}

class TextRowsBody {
  @ProjectPath()
  path: string;

  /** The file as it is being written. */
  @Optional()
  @IsString()
  @Length(0, 2_000_000)
  @ApiProperty({ type: String })
  text?: string;

  @Whole(1, 1000)
  limit: number;

  @OptionalOf(SampleBody)
  sample?: SampleBody;
}

/** A query as it is being written, and which rows of its inputs are read. */
export class QueryBody extends TextBody {
  @OptionalOf(SampleBody)
  sample?: SampleBody;
}

class QueryExportBody extends QueryBody {
  @IsIn(EXPORT_FORMATS)
  @ApiProperty({ enum: EXPORT_FORMATS })
  format: ExportFormat;
}

class CastBody {
  @Text(1, 63)
  column: string;

  @Text(1, 100)
  type: string;
}

class CastsBody extends TextBody {
  @IsArray()
  @ArrayMinSize(1)
  @ArrayMaxSize(100)
  @ValidateNested({ each: true })
  @Type(() => CastBody)
  @ApiProperty({ type: [CastBody], minItems: 1, maxItems: 100 })
  casts: CastBody[];
}

@ApiTags('preview')
@Controller('api/workspaces/:slug')
export class PreviewController {
  constructor(
    private readonly previews: PreviewService,
    private readonly looks: LookService,
    private readonly tickets: ExportTickets,
    private readonly turns: LookTurns,
    private readonly seen: SeenService,
  ) {}

  /** Rows of a query that is being written. */
  @Post('preview')
  @HttpCode(200)
  preview(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { path, text, limit, sample }: TextRowsBody,
    @Req() request: Request,
  ): Promise<Sent<Rows>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.previews.text(slug, { path, text: text ?? '', limit, sample }, signal));
  }

  /** Columns and types of a query that is being written; nothing is read. */
  @Post('describe')
  @HttpCode(200)
  describe(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { path, text }: TextBody,
    @Req() request: Request,
  ): Promise<Sent<readonly PreviewColumn[]>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.previews.describe(slug, path, text, signal));
  }

  /** What the database does not take of a file that is being written; nothing is read. */
  @Post('validate')
  @HttpCode(200)
  validate(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { path, text }: TextBody,
    @Req() request: Request,
  ): Promise<Sent<readonly StepError[]>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.previews.validate(slug, path, text, signal));
  }

  /** How many values of a query's columns fail in a cast. */
  @Post('casts')
  @HttpCode(200)
  casts(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() body: CastsBody,
    @Req() request: Request,
  ): Promise<Sent<CastsAnswer>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.previews.casts(slug, body, signal));
  }

  /** Asks for all rows of a query that is being written as a file: the answer is the id to fetch it by, once and soon. */
  @Post('preview/exports')
  @HttpCode(200)
  async askExport(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() body: QueryExportBody,
    @Req() request: Request,
  ): Promise<ExportTicket> {
    const signal = leaving(request);
    // What is wrong with it is said now: a file that is fetched has no place for it.
    refuseRepeated(await this.turns.of(me, () => this.previews.describe(slug, body.path, body.text, signal)));
    return { id: this.tickets.keep({ person: me.id, slug, ...body }) };
  }

  /** The file, streamed. */
  @Get('preview/exports/:id')
  @ApiOkResponse(fileAnswer(Object.values(CONTENT_TYPES)))
  async export(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Param('id', ParseUUIDPipe) id: string,
    @Req() request: Request,
    @Res() response: Response,
  ): Promise<void> {
    const { path, text, format, sample } = this.tickets.take(id, me.id, slug);
    const signal = leaving(request);
    const name = path
      .split('/')
      .at(-1)!
      .replace(/\.\w+$/, '');
    await this.seen.exported(me.name, path, { workspace: slug, format });
    const sink = sinkOf(response, { name, format });
    const unfit = format === 'parquet' ? unfitCondition : undefined;
    await this.turns.of(me, () => this.looks.streamQuery(slug, { path, text, sample, signal }, sink, unfit));
  }
}
