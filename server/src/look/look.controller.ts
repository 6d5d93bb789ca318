import type { PageAnswer, ProfileAnswer } from '@ouvrage/api/rows';
import type { Sent } from '../shared/answers.js';
import { BadRequestException, Body, Controller, Get, HttpCode, Param, Post, Query, Req, Res } from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import { FILTER_OPS, type FilterOp } from '@ouvrage/core/look';
import { plainToInstance, Type } from 'class-transformer';
import { ArrayMaxSize, IsArray, IsBoolean, IsIn, IsString, Length, validate, ValidateNested } from 'class-validator';
import type { Request, Response } from 'express';
import { fileAnswer } from '../shared/answers.js';
import { Flag, IsTextOrNull, Names, Optional, Text, Whole } from '../shared/fields.js';
import { CONTENT_TYPES, EXPORT_FORMATS, sinkOf, type ExportFormat } from './export-formats.js';
import { LookService } from './look.service.js';
import { Me } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { unfitCondition } from './parquet-types.js';
import { LookTurns } from './look-turns.js';
import { SeenService } from './seen.js';
import { leaving } from '../shared/leaving.js';

class FilterBody {
  @Text(1, 63)
  column: string;

  @IsIn(FILTER_OPS)
  @ApiProperty({ enum: FILTER_OPS })
  op: FilterOp;

  @Optional()
  @IsString()
  @Length(0, 1000)
  @ApiProperty({ type: String, required: false })
  value?: string;
}

class SortBody {
  @Text(1, 63)
  column: string;

  @IsBoolean()
  @ApiProperty({ type: Boolean })
  descending: boolean;
}

/** Which rows and columns of a table. */
class LookBody {
  @Text(3, 200, 'core.dim_vessel')
  table: string;

  /** Columns in their order; empty for all. */
  @Names(1600)
  show: string[];

  @IsArray()
  @ArrayMaxSize(20)
  @ValidateNested({ each: true })
  @Type(() => FilterBody)
  @ApiProperty({ type: [FilterBody] })
  filters: FilterBody[];

  @IsArray()
  @ArrayMaxSize(10)
  @ValidateNested({ each: true })
  @Type(() => SortBody)
  @ApiProperty({ type: [SortBody] })
  sort: SortBody[];
}

class PageBody extends LookBody {
  /** `next` of the page before. */
  @Optional()
  @IsArray()
  @ArrayMaxSize(1700)
  @IsTextOrNull({ each: true })
  @ApiProperty({ type: [String], required: false })
  after?: (string | null)[];

  @Whole(1, 1000)
  limit: number;
}

class ProfileBody {
  @Text(3, 200)
  table: string;

  /** Production's table instead of the workspace's. */
  @Flag()
  production: boolean;
}

class ExportQuery {
  @IsIn(EXPORT_FORMATS)
  @ApiProperty({ enum: EXPORT_FORMATS })
  format: ExportFormat;

  /** A LookBody as JSON. */
  @Text(2, 20_000)
  look: string;
}

@ApiTags('rows')
@Controller('api/workspaces/:slug')
export class LookController {
  constructor(
    private readonly looks: LookService,
    private readonly turns: LookTurns,
    private readonly seen: SeenService,
  ) {}

  /** One page of a table's rows, each behind the one before. */
  @Post('page')
  @HttpCode(200)
  page(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { table, ...look }: PageBody,
    @Req() request: Request,
  ): Promise<Sent<PageAnswer>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.looks.page(slug, table, look, signal));
  }

  /** What a table's columns hold. */
  @Post('profile')
  @HttpCode(200)
  profile(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { table, production }: ProfileBody,
    @Req() request: Request,
  ): Promise<Sent<ProfileAnswer>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.looks.profile(slug, table, production ? 'production' : 'here', signal));
  }

  /** All rows of a look as a file, streamed. */
  @Get('export')
  @ApiOkResponse(fileAnswer(Object.values(CONTENT_TYPES)))
  async export(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Query() { format, look }: ExportQuery,
    @Req() request: Request,
    @Res() response: Response,
  ): Promise<void> {
    const { table, ...rest } = await lookOf(look);
    const signal = leaving(request);
    await this.seen.exported(me.name, table, { workspace: slug, format });
    const write = sinkOf(response, { name: table, format });
    await this.turns.of(me, () =>
      this.looks.stream({ slug, table, look: rest, signal }, write, format === 'parquet' ? unfitCondition : undefined),
    );
  }
}

async function lookOf(text: string): Promise<LookBody> {
  let look: LookBody;
  try {
    look = plainToInstance(LookBody, JSON.parse(text));
  } catch {
    throw new BadRequestException(['look must be JSON']);
  }
  if (!(look instanceof LookBody)) throw new BadRequestException(['look must be an object']);
  const errors = await validate(look, { whitelist: true, forbidNonWhitelisted: true });
  if (errors.length) throw new BadRequestException(errors.map(String));
  return look;
}
