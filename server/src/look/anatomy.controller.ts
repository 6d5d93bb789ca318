import type { AnatomyLine, PlanAnswer } from '@ouvrage/api/anatomy';
import type { Rows } from '@ouvrage/api/rows';
import { Body, Controller, HttpCode, Param, Post, Req, Res } from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import type { StepLook } from '@ouvrage/core/anatomy';
import { IsIn } from 'class-validator';
import type { Request, Response } from 'express';
import { Me } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { LINES, type Sent } from '../shared/answers.js';
import { Flag, Optional, Text, Whole } from '../shared/fields.js';
import { leaving } from '../shared/leaving.js';
import { asProblem } from '../shared/problem.js';
import { AnatomyService } from './anatomy.service.js';
import { LookTurns } from './look-turns.js';
import { PlanService } from './plan.service.js';
import { QueryBody } from './preview.controller.js';

const LOOKS = [
  'rows',
  'leftAlone',
  'rightAlone',
  'keys',
  'leftRows',
  'rightRows',
  'unknown',
] as const satisfies readonly StepLook['name'][];

class AnatomyBody extends QueryBody {
  /** Counts also what may take long. */
  @Optional()
  @Flag()
  force?: boolean;
}

class PlanBody extends QueryBody {
  /** Runs the query, so that real rows and times are known. */
  @Flag()
  analyze: boolean;
}

class StepRowsBody extends QueryBody {
  @Text(1, 1000)
  step: string;

  @IsIn(LOOKS)
  @ApiProperty({ enum: LOOKS })
  look: StepLook['name'];

  @Whole(1, 1000)
  limit: number;
}

@ApiTags('preview')
@Controller('api/workspaces/:slug')
export class AnatomyController {
  constructor(
    private readonly anatomies: AnatomyService,
    private readonly plans: PlanService,
    private readonly turns: LookTurns,
  ) {}

  /** The steps of a query that is being written, and their counts as they come: a line of JSON each. */
  @Post('anatomy')
  @HttpCode(200)
  @ApiOkResponse(LINES)
  async count(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { path, text, sample, force = false }: AnatomyBody,
    @Req() request: Request,
    @Res() response: Response,
  ): Promise<void> {
    const send = (line: Sent<AnatomyLine>) => {
      if (!response.headersSent) response.setHeader('Content-Type', 'application/x-ndjson');
      response.write(`${JSON.stringify(line)}\n`);
    };
    try {
      await this.turns.counts(me, leaving(request), (signal) =>
        this.anatomies.count(slug, { path, text, sample, isForced: force }, send, signal),
      );
    } catch (error) {
      // Before the first line it is an answer like others.
      if (!response.headersSent) throw error;
      const { title, detail } = asProblem(error);
      send({ kind: 'stopped', error: { message: title, ...(detail ? { hint: detail } : {}) } });
    }
    response.end();
  }

  /** Rows of a step, or those that it loses or multiplies. */
  @Post('anatomy/rows')
  @HttpCode(200)
  rows(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() body: StepRowsBody,
    @Req() request: Request,
  ): Promise<Sent<Rows>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.anatomies.rows(slug, body, signal));
  }

  /** How PostgreSQL works a query out that is being written. */
  @Post('plan')
  @HttpCode(200)
  plan(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() body: PlanBody,
    @Req() request: Request,
  ): Promise<Sent<PlanAnswer>> {
    const signal = leaving(request);
    return this.turns.of(me, () => this.plans.plan(slug, body, signal));
  }
}
