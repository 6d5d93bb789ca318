import type { PreviewColumn, Rows } from '@ouvrage/api/rows';
import type { StepError } from '@ouvrage/api/run';
import type { Sent } from '../shared/answers.js';
import { Body, Controller, HttpCode, Param, Post, Req } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { Type } from 'class-transformer';
import { IsNumber, IsString, Length, Max, Min, ValidateNested } from 'class-validator';
import type { Request } from 'express';
import { Names, Optional, OptionalWhole, ProjectPath, Text, Whole } from '../shared/fields.js';
import { Me } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { LookTurns } from './look-turns.js';
import { leaving } from '../shared/leaving.js';
import { PreviewService } from './preview.service.js';

/** Which input is thinned out, and how: a share of its rows, or some rows of each value. */
export class SampleBody {
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

  @Optional()
  @ValidateNested()
  @Type(() => SampleBody)
  @ApiProperty({ type: SampleBody, required: false })
  sample?: SampleBody;
}

@ApiTags('preview')
@Controller('api/workspaces/:slug')
export class PreviewController {
  constructor(
    private readonly previews: PreviewService,
    private readonly turns: LookTurns,
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
}
