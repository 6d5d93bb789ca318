import type { RunDetail, RunEntry, StepDetail, StepEntry } from '@ouvrage/api/run';
import type { Sent } from '../shared/answers.js';
import {
  Body,
  Controller,
  Get,
  Header,
  HttpCode,
  Param,
  Post,
  Query,
  Req,
  Sse,
  type MessageEvent,
} from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import { IsIn, IsString, Length } from 'class-validator';
import {
  filter,
  from,
  interval,
  map,
  merge,
  startWith,
  switchMap,
  takeUntil,
  takeWhile,
  throttleTime,
  type Observable,
} from 'rxjs';
import { ForTokens, NotForTokens, mayAct, Me, Needs } from '../people/access.js';
import type { Request } from 'express';
import type { Person } from '../people/people.entities.js';
import { sessionToken } from '../people/session-cookie.js';
import { SessionService } from '../people/session.service.js';
import { PRODUCTION } from '../project/branches.js';
import { Edits, SharingService } from '../project/sharing.service.js';

import { EVENTS, fileAnswer } from '../shared/answers.js';
import { Flag, Names, Optional, OptionalText, OptionalWhole, RowId, TextsByName } from '../shared/fields.js';
import { Problem } from '../shared/problem.js';
import { ProgressService } from './progress.service.js';
import type { CheckResult, Run, RunStep } from './run.entities.js';
import { RunService } from './run.service.js';
import { ScriptService } from './script.service.js';

class RunBody {
  /** Full names, `core.dim_vessel`; empty for all tables. */
  @Names(5000)
  tables: string[];

  /** With what they need. */
  @Flag()
  upstream: boolean;

  /** With what they feed. */
  @Flag()
  downstream: boolean;

  @OptionalWhole(1, 16)
  parallelism?: number;

  /** Tables of them that begin with nothing of what they held. */
  @Optional()
  @Names(100)
  startOver?: string[];

  /** Values of parameters for this run. */
  @TextsByName({ most: 1000, longest: 1000 })
  parameters?: Record<string, string>;
}

class CheckBody {
  /** Ids of checks, `core.dim_vessel/dim_vessel_pkey` or `checks/calls_do_not_overlap`. */
  @Names(5000)
  checks: string[];

  /** Tables all of whose checks run; with no checks and no tables, all that can be run. */
  @Names(5000)
  tables: string[];
}

class ListQuery {
  @OptionalText(60)
  environment?: string;

  @OptionalWhole(1, 500)
  limit?: number;
}

class ScriptQuery {
  /** Full names with commas between; none for all. */
  @Optional()
  @IsString()
  @Length(0, 20_000)
  @ApiProperty({ type: String, required: false, example: 'core.dim_vessel' })
  tables?: string;

  /** With what they need. */
  @Optional()
  @IsIn(['true', 'false'])
  @ApiProperty({ type: String, required: false, enum: ['true', 'false'] })
  upstream?: 'true' | 'false';

  @Optional()
  @IsIn(['script', 'procedures'])
  @ApiProperty({ type: String, required: false, enum: ['script', 'procedures'] })
  form?: 'script' | 'procedures';
}

export const runOut = (r: Run): Sent<RunEntry> => ({
  id: r.id,
  kind: r.kind,
  environment: r.environment,
  commit: r.commit,
  state: r.state,
  person: r.person,
  tables: r.request.tables,
  upstream: r.request.upstream,
  downstream: r.request.downstream,
  parallelism: r.request.parallelism,
  parameters: r.request.parameters,
  error: r.error,
  continues: r.continues,
  job: r.job,
  createdAt: r.createdAt,
  startedAt: r.startedAt,
  finishedAt: r.finishedAt,
});

const stepOut = (s: RunStep, checks: readonly CheckResult[]): Sent<StepEntry> => ({
  id: s.id,
  kind: s.kind,
  table: s.table,
  state: s.state,
  waitsFor: s.waitsFor,
  rowsOut: s.rowsOut,
  rowsIn: s.rowsIn,
  counts: s.counts,
  note: s.note,
  error: s.error,
  startedAt: s.startedAt,
  finishedAt: s.finishedAt,
  checks: checks.map((c) => ({ id: c.checkId, verdict: c.verdict, atFault: c.atFault, total: c.total })),
});

@ApiTags('runs')
@Controller('api')
export class RunController {
  constructor(
    private readonly runs: RunService,
    private readonly progress: ProgressService,
    private readonly scripts: ScriptService,
    private readonly sessions: SessionService,
    private readonly sharing: SharingService,
  ) {}

  /** Asks for a run of tables; it is queued. */
  @Edits()
  @ForTokens('run')
  @Post('workspaces/:slug/runs')
  async run(@Me() me: Person, @Param('slug') slug: string, @Body() body: RunBody): Promise<Sent<RunEntry>> {
    if (slug === PRODUCTION) this.needsReleaser(me, 'A run in production');
    return runOut(await this.runs.build(me, slug, body));
  }

  /** Asks for checks alone, without loading; in production, too, for they only read. */
  @Needs('editor')
  @ForTokens('run')
  @Post('workspaces/:slug/checks')
  async check(@Me() me: Person, @Param('slug') slug: string, @Body() body: CheckBody): Promise<Sent<RunEntry>> {
    return runOut(await this.runs.check(me, slug, body));
  }

  /** The SQL that loads tables here, as one script or as procedures: plain text that runs without Ouvrage. */
  @Get('workspaces/:slug/script')
  @Header('content-type', 'text/plain; charset=utf-8')
  @ApiOkResponse(fileAnswer(['text/plain']))
  script(@Param('slug') slug: string, @Query() { tables, upstream, form }: ScriptQuery): Promise<string> {
    return this.scripts.text(slug, {
      tables: tables?.split(',').filter(Boolean) ?? [],
      upstream: upstream === 'true',
      form: form ?? 'script',
    });
  }

  /** Refuses who may not act on a run: in production those who do not release, in a workspace with whom it is not shared. */
  private async refuse(me: Person, { environment }: Run, what: string): Promise<void> {
    if (environment === PRODUCTION) this.needsReleaser(me, what);
    else await this.sharing.refuseUnshared(me, environment);
  }

  private needsReleaser(me: Person, what: string): void {
    if (!mayAct(me.role, 'releaser'))
      throw new Problem(
        403,
        'not-allowed',
        `${what} is only allowed for releasers`,
        `You are signed in as ${me.displayName}, ${me.role}.`,
      );
  }

  /** Runs, newest first. */
  @Get('runs')
  async list(@Query() { environment, limit }: ListQuery): Promise<Sent<readonly RunEntry[]>> {
    return (await this.runs.list(environment, limit ?? 100)).map(runOut);
  }

  /** One run with its steps and the outcomes of its checks. */
  @Get('runs/:id')
  get(@Param('id', RowId) id: number): Promise<Sent<RunDetail>> {
    return this.view(id);
  }

  private async view(id: number): Promise<Sent<RunDetail>> {
    // What becomes of steps is written before the run has ended: read after the run, they are never older than it.
    const run = await this.runs.get(id);
    const [steps, results] = await Promise.all([this.runs.stepsOf(id), this.runs.resultsOf(id)]);
    const byStep = new Map<number, CheckResult[]>();
    for (const r of results) byStep.set(r.step.id, [...(byStep.get(r.step.id) ?? []), r]);
    return { ...runOut(run), steps: steps.map((s) => stepOut(s, byStep.get(s.id) ?? [])) };
  }

  /** The statements that a step ran. */
  @Get('runs/:id/steps/:step')
  async step(@Param('id', RowId) id: number, @Param('step', RowId) step: number): Promise<Sent<StepDetail>> {
    const found = (await this.runs.stepsOf(id)).find((s) => s.id === step);
    if (!found) throw new Problem(404, 'not-found', `Step ${step} of run ${id} does not exist`);
    const { statements, kinds, results } = await this.runs.detailOf(step);
    return {
      ...stepOut(found, results),
      statements,
      kinds,
      results: results.map((r) => ({
        id: r.checkId,
        verdict: r.verdict,
        atFault: r.atFault,
        total: r.total,
        sql: r.sql,
        rows: r.rows,
      })),
    };
  }

  /** Stops a run that is queued or running. */
  @Needs('editor')
  @ForTokens('run')
  @Post('runs/:id/stop')
  @HttpCode(204)
  async stop(@Me() me: Person, @Param('id', RowId) id: number): Promise<void> {
    const run = await this.runs.get(id);
    // Checks change nothing: whoever may ask for them may stop their own.
    if (run.kind !== 'check' || run.person !== me.displayName)
      await this.refuse(me, run, 'Stopping a run in production');
    await this.runs.stop(me, id);
  }

  /** A new run of what an earlier one did not finish. */
  @Needs('editor')
  @ForTokens('run')
  @Post('runs/:id/continue')
  async goOn(@Me() me: Person, @Param('id', RowId) id: number): Promise<Sent<RunEntry>> {
    await this.refuse(me, await this.runs.get(id), 'A run in production');
    return runOut(await this.runs.goOn(me, id));
  }

  /** The run as it moves on: a server-sent event for each change, until it has ended. */
  @NotForTokens()
  @Sse('runs/:id/events')
  @ApiOkResponse(EVENTS)
  events(@Param('id', RowId) id: number, @Req() request: Request): Observable<MessageEvent> {
    const changes = this.progress.notes.pipe(
      filter((n) => n.run === id),
      throttleTime(150, undefined, { leading: true, trailing: true }),
      startWith(undefined),
    );
    return merge(changes, interval(15_000)).pipe(
      switchMap(() => from(this.view(id))),
      takeWhile((view) => ['queued', 'running'].includes(view.state), true),
      map((view): MessageEvent => ({ data: view })),
      takeUntil(this.sessions.whenEnded(sessionToken(request)!)),
    );
  }

  /** A note whenever any run changes: for lists. */
  @NotForTokens()
  @Sse('events')
  @ApiOkResponse(EVENTS)
  all(@Req() request: Request): Observable<MessageEvent> {
    return merge(
      this.progress.notes.pipe(throttleTime(500, undefined, { leading: true, trailing: true })),
      interval(20_000).pipe(map(() => ({ what: 'alive' }))),
    ).pipe(
      map((note): MessageEvent => ({ data: note })),
      takeUntil(this.sessions.whenEnded(sessionToken(request)!)),
    );
  }
}
