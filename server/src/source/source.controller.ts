import { Body, Controller, Get, Param, Post } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { InjectRepository } from '@nestjs/typeorm';
import { Repository } from 'typeorm';
import { Me, mayAct, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PRODUCTION, ProjectService } from '../project/project.service.js';
import { RunStep } from '../run/run.entities.js';
import { runOut } from '../run/run.controller.js';
import { Names } from '../shared/fields.js';
import { Problem } from '../shared/problem.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { ConnectionService } from './connection.service.js';
import { IntakeService } from './intake.service.js';

class IntakeBody {
  /** Full names; empty for all source tables. */
  @Names(5000)
  tables: string[];
}

@ApiTags('sources')
@Controller('api/workspaces/:slug')
export class SourceController {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly connections: ConnectionService,
    private readonly intake: IntakeService,
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
  ) {}

  /** Systems of the project, their tables and each table's last intake. */
  @Get('sources')
  async sources(@Param('slug') slug: string) {
    const line = await this.projects.line(slug);
    const standings = await this.warehouse.standings(line.project, line.environment, this.projects.environmentOf(undefined));
    const bound = new Map((await this.connections.list()).map((c) => [c.server, c]));
    const last = await this.lastIntakes(slug);
    return [...line.project.servers.values()].map((server) => {
      const connection = bound.get(server.name);
      return {
        server: server.name,
        wrapper: server.wrapper,
        path: server.path,
        connection: connection ? { host: connection.host, port: connection.port, database: connection.database, user: connection.user } : null,
        tables: [...line.project.tables.values()]
          .filter((t) => t.kind === 'source' && t.server === server.name)
          .map((t) => {
            const standing = standings.get(t.fullName);
            return {
              table: t.fullName,
              comment: t.comment ?? null,
              where: standing?.where ?? 'nowhere',
              rows: standing?.loaded?.rows ?? null,
              loadedAt: standing?.loaded?.at ?? null,
              last: last.get(t.fullName) ?? null,
            };
          }),
      };
    });
  }

  private async lastIntakes(slug: string) {
    const rows = await this.steps.query<
      {
        table_name: string;
        state: string;
        rows_out: string | null;
        rows_in: string | null;
        finished_at: Date;
        error: unknown;
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
        { state: r.state, rowsOut: r.rows_out, rowsIn: r.rows_in, at: r.finished_at, error: r.error, run: r.run_id, milliseconds: r.milliseconds },
      ]),
    );
  }

  /** Brings source tables in now. Landing tables of production need a releaser. */
  @Needs('editor')
  @Post('intake')
  async bringIn(@Me() me: Person, @Param('slug') slug: string, @Body() { tables }: IntakeBody) {
    if (slug === PRODUCTION && !mayAct(me.role, 'releaser'))
      throw new Problem(403, 'not-allowed', 'Bringing data into production needs the role releaser', `You are signed in as ${me.displayName}, ${me.role}.`);
    return runOut(await this.intake.ask(me, slug, tables));
  }
}
