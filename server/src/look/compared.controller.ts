import { Controller, Get, Param, Query, Req } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import type { ComparedColumns, ComparedCounts, ComparedKind, ComparedRows, SameTable } from '@ouvrage/api/compared';
import { IsIn } from 'class-validator';
import type { Request } from 'express';
import { Me } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import type { Sent } from '../shared/answers.js';
import { OptionalText, Text } from '../shared/fields.js';
import { leaving } from '../shared/leaving.js';
import { ComparedService } from './compared.service.js';
import { LookTurns } from './look-turns.js';

const ROW_KINDS: readonly ComparedKind[] = ['different', 'only here', 'only there'];

class TableQuery {
  @Text(3, 200, 'core.dim_vessel')
  table: string;
}

class RowsQuery extends TableQuery {
  @IsIn(ROW_KINDS)
  @ApiProperty({ enum: ROW_KINDS })
  kind: ComparedKind;

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
}
