import { Controller, Get, Param, Query, Req, Res } from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import type { ComparedColumns, ComparedCounts, ComparedKind, ComparedRows, SameTable } from '@ouvrage/api/compared';
import { IsIn } from 'class-validator';
import type { Request, Response } from 'express';
import { Me } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { fileAnswer, type Sent } from '../shared/answers.js';
import { OptionalText, Text } from '../shared/fields.js';
import { leaving } from '../shared/leaving.js';
import { ComparedService } from './compared.service.js';
import { CONTENT_TYPES, sinkOf } from './export-formats.js';
import { LookTurns } from './look-turns.js';
import { SeenService } from './seen.js';

const ROW_KINDS: readonly ComparedKind[] = ['different', 'only here', 'only there'];

class TableQuery {
  @Text(3, 200, 'core.dim_vessel')
  table: string;
}

class KindQuery extends TableQuery {
  @IsIn(ROW_KINDS)
  @ApiProperty({ enum: ROW_KINDS })
  kind: ComparedKind;
}

class RowsQuery extends KindQuery {
  /** Of rows that differ: only those that do in this column. */
  @OptionalText(63)
  column?: string;
}

@ApiTags('comparison')
@Controller('api/workspaces/:slug/compared')
export class ComparedController {
  constructor(
    private readonly compared: ComparedService,
    private readonly turns: LookTurns,
    private readonly seen: SeenService,
  ) {}

  /** How many rows of a table are in production alone, in the workspace alone, in both and equal, in both and different. */
  @Get('counts')
  counts(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Query() { table }: TableQuery,
    @Req() request: Request,
  ): Promise<Sent<ComparedCounts | SameTable>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.compared.counts(slug, table, signal));
  }

  /** In how many rows each column differs, and what it was and is. */
  @Get('columns')
  columns(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Query() { table }: TableQuery,
    @Req() request: Request,
  ): Promise<Sent<ComparedColumns>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.compared.columns(slug, table, signal));
  }

  /** The first rows of one kind, old and new values side by side. */
  @Get('rows')
  rows(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Query() { table, kind, column }: RowsQuery,
    @Req() request: Request,
  ): Promise<Sent<ComparedRows>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.compared.rows(slug, table, { kind, column }, signal));
  }

  /** All rows of one kind as a CSV file, streamed. */
  @Get('export')
  @ApiOkResponse(fileAnswer([CONTENT_TYPES.csv]))
  async export(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Query() { table, kind }: KindQuery,
    @Req() request: Request,
    @Res() response: Response,
  ): Promise<void> {
    const signal = leaving(request);
    await this.seen.exported(me.name, table, { workspace: slug, rows: kind, format: 'csv' });
    const sink = sinkOf(response, { name: `${table} ${kind}`, format: 'csv' });
    await this.turns.of(me, () => this.compared.stream(slug, table, { kind, signal }, sink));
  }
}
