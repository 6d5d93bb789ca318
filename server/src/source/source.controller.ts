import type { ProposedFile } from '@ouvrage/api/project';
import type { RunEntry, StepError, StepState } from '@ouvrage/api/run';
import type { CatalogAnswer, DriftByTable, SourceSystem } from '@ouvrage/api/source';
import { asInstant, type Sent } from '../shared/answers.js';
import { Body, Controller, Get, HttpCode, Param, ParseUUIDPipe, Post } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { InjectRepository } from '@nestjs/typeorm';
import { fingerprints } from '@ouvrage/core/graph';
import { watermarkOf } from '@ouvrage/core/intake';
import { WAREHOUSE_SERVER, type SourceTable } from '@ouvrage/core/model';
import { Type } from 'class-transformer';
import { ArrayMaxSize, ArrayMinSize, IsArray, IsUUID, ValidateNested } from 'class-validator';
import { Repository } from 'typeorm';
import { ForTokens, mayAct, Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { Edits } from '../project/sharing.service.js';
import { ProjectService } from '../project/project.service.js';
import { RunStep } from '../run/run.entities.js';
import { runOut } from '../run/run.controller.js';
import { Names, OptionalWhole, Text } from '../shared/fields.js';
import { notFound, Problem } from '../shared/problem.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { ConnectionService } from '../connection/connection.service.js';
import { ImportService } from './import.service.js';
import { IntakeService } from './intake.service.js';
import { SourceStateService } from './source-state.service.js';

class IntakeBody {
  /** Full names; empty for all source tables. */
  @Names(5000)
  tables: string[];

  /** At most so many rows of each, for a trial. */
  @OptionalWhole(1, 1_000_000)
  limit?: number;
}

class ChosenTable {
  @Text(1, 63)
  schema: string;

  @Text(1, 63)
  name: string;
}

class ImportBody {
  @IsUUID()
  @ApiProperty({ type: String })
  connection: string;

  @IsArray()
  @ArrayMinSize(1)
  @ArrayMaxSize(2000)
  @ValidateNested({ each: true })
  @Type(() => ChosenTable)
  @ApiProperty({ type: [ChosenTable] })
  tables: ChosenTable[];
}

class BindNewBody {
  @IsUUID()
  @ApiProperty({ type: String })
  connection: string;

  @Text(1, 63)
  server: string;
}

@ApiTags('sources')
@Controller('api/workspaces/:slug')
export class SourceController {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly connections: ConnectionService,
    private readonly intake: IntakeService,
    private readonly imports: ImportService,
    private readonly states: SourceStateService,
    private readonly people: PeopleService,
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
  ) {}

  /** Systems of the project, their tables and each table's last intake. */
  @Get('sources')
  async sources(@Param('slug') slug: string): Promise<Sent<readonly SourceSystem[]>> {
    const line = await this.projects.line(slug);
    const standings = await this.warehouse.standings(
      line.project,
      line.environment,
      this.projects.environmentOf(undefined),
    );
    const [bound, states] = await Promise.all([this.connections.bound('production'), this.states.of(PRODUCTION)]);
    const sources = [...line.project.tables.values()].filter((t): t is SourceTable => t.kind === 'source');
    const lateness = await this.states.lateness(PRODUCTION, sources);
    const last = await this.lastIntakes(slug);
    const production = slug === PRODUCTION ? line : await this.projects.line(PRODUCTION);
    const [own, theirs] = [fingerprints(line.project), fingerprints(production.project)];
    const here = sources.find((t) => t.server === WAREHOUSE_SERVER);
    const inPlace =
      here && !line.project.servers.has(WAREHOUSE_SERVER)
        ? [{ name: WAREHOUSE_SERVER, wrapper: 'read in place', path: here.path }]
        : [];
    return [...line.project.servers.values(), ...inPlace].map((server) => {
      const connection = server.name === WAREHOUSE_SERVER ? this.connections.warehouse() : bound.get(server.name);
      return {
        server: server.name,
        wrapper: server.wrapper,
        path: server.path,
        connection: connection
          ? { host: connection.host, port: connection.port, database: connection.database, user: connection.user }
          : null,
        tables: sources
          .filter((t) => t.server === server.name)
          .map((t) => {
            const standing = standings.get(t.fullName);
            return {
              table: t.fullName,
              comment: t.comment ?? null,
              where: standing?.where ?? 'nowhere',
              rows: standing?.loaded?.rows ?? null,
              loadedAt: standing?.loaded ? asInstant(standing.loaded.at) : null,
              last: last.get(t.fullName) ?? null,
              incremental: watermarkOf(t) !== undefined,
              pattern: t.contract.options.get('pattern')?.value ?? null,
              sameAsProduction: own.get(t.fullName) === theirs.get(t.fullName),
              drift: states.get(t.fullName)?.drift ?? null,
              comparedAt: states.get(t.fullName)?.comparedAt ?? null,
              newest: states.get(t.fullName)?.newest ?? null,
              lateness: lateness.get(t.fullName) ?? null,
            };
          }),
      };
    });
  }

  private async lastIntakes(slug: string) {
    const rows = await this.steps.query<
      {
        table_name: string;
        state: StepState;
        rows_out: string | null;
        rows_in: string | null;
        finished_at: Date;
        error: StepError | null;
        run_id: number;
        milliseconds: number;
      }[]
    >(
      `select distinct on (s.table_name) s.table_name, s.state, s.rows_out, s.rows_in, s.finished_at, s.error, s.run_id,
         (extract(epoch from s.finished_at - s.started_at) * 1000)::int as milliseconds
       from run_step s join run r on r.id = s.run_id
       where s.kind = 'intake' and s.finished_at is not null and r.environment = any($1) order by s.table_name, s.id desc`,
      [[slug, PRODUCTION]],
    );
    return new Map(
      rows.map((r) => [
        r.table_name,
        {
          state: r.state,
          rowsOut: r.rows_out,
          rowsIn: r.rows_in,
          at: r.finished_at,
          error: r.error,
          run: r.run_id,
          milliseconds: r.milliseconds,
        },
      ]),
    );
  }

  /** Brings source tables in now. Landing tables of production need a releaser. */
  @Edits()
  @ForTokens('run')
  @Post('intake')
  async bringIn(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { tables, limit }: IntakeBody,
  ): Promise<Sent<RunEntry>> {
    if (slug === PRODUCTION && !mayAct(me.role, 'releaser'))
      throw new Problem(
        403,
        'not-allowed',
        'Only releasers can load data into production',
        `You are signed in as ${me.displayName}, ${me.role}.`,
      );
    return runOut(await this.intake.ask(me, slug, tables, limit));
  }

  /** Tables of a connection's database. */
  @Needs('editor')
  @Get('catalog/:connection')
  async catalog(
    @Param('slug') slug: string,
    @Param('connection', ParseUUIDPipe) connection: string,
  ): Promise<Sent<CatalogAnswer>> {
    return this.imports.catalog(await this.projects.line(slug), connection);
  }

  /** What declaring chosen tables would make of the project's files; a new server is bound to the connection. */
  @Needs('editor')
  @Post('import')
  @HttpCode(200)
  async propose(
    @Param('slug') slug: string,
    @Body() { connection, tables }: ImportBody,
  ): Promise<Sent<readonly ProposedFile[]>> {
    return this.imports.propose(await this.projects.line(slug), connection, tables);
  }

  /** Binds the server that an import declared to the connection that it came from. */
  @Needs('administrator')
  @Post('import/bind')
  @HttpCode(204)
  async bindNew(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { connection, server }: BindNewBody,
  ): Promise<void> {
    const line = await this.projects.line(slug);
    if (!line.project.servers.has(server)) throw notFound(`The server ${server}`);
    await this.imports.bindNew(connection, server);
    await this.people.audit(me, 'server bound', server);
  }

  /** Holds declared tables against the system now. */
  @Needs('editor')
  @Post('sources/:server/compare')
  @HttpCode(200)
  async compare(
    @Param('slug') slug: string,
    @Param('server') server: string,
    @Body() { tables }: IntakeBody,
  ): Promise<Sent<DriftByTable>> {
    const line = await this.projects.line(slug);
    if (!line.project.servers.has(server)) throw notFound(`The server ${server}`);
    return Object.fromEntries(await this.imports.compare(line, server, tables));
  }

  /** The file of one table with what drifted adopted; nothing is kept yet. */
  @Needs('editor')
  @Post('sources/:server/take-over')
  @HttpCode(200)
  async takeOver(
    @Param('slug') slug: string,
    @Param('server') server: string,
    @Body() { tables }: IntakeBody,
  ): Promise<Sent<readonly ProposedFile[]>> {
    return this.imports.takeOver(await this.projects.line(slug), server, tables);
  }
}
