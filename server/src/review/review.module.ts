import { Body, Controller, Delete, Get, HttpCode, Module, Param, Post } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import type { Review, ReviewWord } from '@ouvrage/api/review';
import { IsIn, Matches } from 'class-validator';
import { MessageModule } from '../message/message.module.js';
import { Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { Edits } from '../project/sharing.service.js';
import { ProjectModule } from '../project/project.module.js';
import { Release } from '../run/run.entities.js';
import type { Sent } from '../shared/answers.js';
import { Flag, Optional, OptionalText, OptionalWhole, ProjectPath, RowId, Text } from '../shared/fields.js';
import { Problem } from '../shared/problem.js';
import { type PlaceAsked, RemarkService } from './remark.service.js';
import { RemarkRow, RequestRow, VerdictRow } from './review.entities.js';
import { ReviewService } from './review.service.js';

const LONGEST = 10_000;
const WORDS = ['approved', 'declined'] as const satisfies readonly ReviewWord[];
const PLACES = ['whole', 'line', 'column', 'rows'] as const satisfies readonly PlaceAsked['kind'][];
const ROWS = ['only there', 'only here', 'different'] as const;

class VerdictBody {
  @IsIn(WORDS)
  @ApiProperty({ type: String, enum: WORDS })
  word: ReviewWord;

  @Text(1, LONGEST)
  text: string;

  /** The diff that was read. */
  @Matches(/^[0-9a-f]{64}$/)
  @ApiProperty({ type: String })
  diff: string;
}

class ReviewRemarkBody {
  @Text(1, LONGEST)
  text: string;

  @IsIn(PLACES)
  @ApiProperty({ type: String, enum: PLACES })
  kind: PlaceAsked['kind'];

  /** Of a line: its file. */
  @Optional()
  @ProjectPath()
  path?: string;

  /** From 1. */
  @OptionalWhole(1, 1_000_000)
  line?: number;

  /** Of a column, or of rows. */
  @OptionalText(200)
  table?: string;

  @OptionalText(200)
  column?: string;

  @Optional()
  @IsIn(ROWS)
  @ApiProperty({ type: String, enum: ROWS, required: false })
  rows?: (typeof ROWS)[number];
}

class AnswerBody {
  @Text(1, LONGEST)
  text: string;
}

class ResolutionBody {
  @Flag()
  resolved: boolean;
}

/** The place that a body names. @throws Problem where a part of it is missing */
function placeOf({ kind, path, line, table, column, rows }: ReviewRemarkBody): PlaceAsked {
  if (kind === 'whole') return { kind };
  if (kind === 'line' && path !== undefined && line !== undefined) return { kind, path, line };
  if (kind === 'column' && table && column) return { kind, table, column };
  if (kind === 'rows' && table && rows) return { kind, table, rows };
  const needed = { line: 'a path and a line', column: 'a table and a column', rows: 'a table and a kind of rows' }[
    kind
  ];
  throw new Problem(400, 'no-place', `A remark on ${kind === 'rows' ? 'rows' : `a ${kind}`} needs ${needed}`);
}

@ApiTags('reviews')
@Controller('api/workspaces/:slug/review')
export class ReviewController {
  constructor(
    private readonly reviews: ReviewService,
    private readonly remarks: RemarkService,
  ) {}

  /** The review of a workspace: what its release needs, who approves it, remarks. */
  @Get()
  of(@Me() me: Person, @Param('slug') slug: string): Promise<Sent<Review>> {
    return this.reviews.of(slug, me);
  }

  /** Approves or declines what a workspace has committed. */
  @Needs('editor')
  @Post('verdicts')
  @HttpCode(204)
  async judge(@Me() me: Person, @Param('slug') slug: string, @Body() body: VerdictBody): Promise<void> {
    await this.reviews.judge(me, slug, body);
  }

  /** Takes back one's own approval or refusal. */
  @Needs('editor')
  @Delete('verdicts')
  @HttpCode(204)
  async withdraw(@Me() me: Person, @Param('slug') slug: string): Promise<void> {
    await this.reviews.withdraw(me, slug);
  }

  /** Asks for the review. */
  @Edits()
  @Post('requests')
  @HttpCode(204)
  async ask(@Me() me: Person, @Param('slug') slug: string): Promise<void> {
    await this.reviews.ask(me, slug);
  }

  /** Makes a remark on a line, a column, a kind of rows or the whole. */
  @Needs('editor')
  @Post('remarks')
  @HttpCode(204)
  async remark(@Me() me: Person, @Param('slug') slug: string, @Body() body: ReviewRemarkBody): Promise<void> {
    await this.remarks.make(me, slug, { place: placeOf(body), text: body.text });
  }

  /** Answers a remark. */
  @Needs('editor')
  @Post('remarks/:id/answers')
  @HttpCode(204)
  async answer(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Param('id', RowId) id: number,
    @Body() { text }: AnswerBody,
  ): Promise<void> {
    await this.remarks.answer(me, slug, { id, text });
  }

  /** Resolves a remark, or opens it again. */
  @Needs('editor')
  @Post('remarks/:id/resolution')
  @HttpCode(204)
  async resolve(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Param('id', RowId) id: number,
    @Body() { resolved }: ResolutionBody,
  ): Promise<void> {
    await this.remarks.resolve(me, slug, { id, resolved });
  }
}

@Module({
  imports: [
    TypeOrmModule.forFeature([VerdictRow, RequestRow, RemarkRow, Release]),
    ProjectModule,
    PeopleModule,
    MessageModule,
  ],
  controllers: [ReviewController],
  providers: [ReviewService, RemarkService],
  exports: [ReviewService],
})
export class ReviewModule {}
