import type { CheckOutcome, CheckState, LoadEntry, TableState } from '@ouvrage/api/quality';
import { asInstant, type Sent } from '../shared/answers.js';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { checksOf, checkTitle, worst, type Check, type Verdict } from '@ouvrage/core/check';
import type { Project } from '@ouvrage/core/model';
import { Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import type { FaultRows } from '@ouvrage/api/rows';
import { CheckResult } from '../run/run.entities.js';
import type { Standing } from '../warehouse/loaded.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

interface LatestRow {
  environment: string;
  check_id: string;
  verdict: Verdict;
  at_fault: string | null;
  total: string | null;
  at: Date;
  run_id: number;
  sql: string;
  rows: FaultRows | null;
}

/** Verdicts on the checks of a project, as they were last found in an environment. */
@Injectable()
export class QualityService {
  constructor(
    @InjectRepository(CheckResult) private readonly results: Repository<CheckResult>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** The tables and checks of an environment with their newest verdicts. */
  async state(slug: string): Promise<{ tables: TableState[]; checks: CheckState[] }> {
    const line = await this.projects.line(slug);
    const standings = await this.warehouse.standings(
      line.project,
      line.environment,
      this.projects.environmentOf(undefined),
    );
    const latest = await this.latest(slug);
    const checks = checksOf(line.project).map((c) => this.checkState(line, c, standings, latest));
    const verdicts = new Map<string, Verdict[]>();
    for (const c of checks) verdicts.set(c.table, [...(verdicts.get(c.table) ?? []), c.verdict]);
    const tables = [...line.project.tables.keys()].map((table): TableState => {
      const standing = standings.get(table);
      const own = verdicts.get(table) ?? [];
      const verdict = own.length ? worst(own)! : standing?.place ? 'holds' : 'not run';
      return {
        table,
        where: standing?.where ?? 'nowhere',
        rows: standing?.loaded?.rows ?? null,
        loadedAt: standing?.loaded ? asInstant(standing.loaded.at) : null,
        run: standing?.loaded?.runId || null,
        verdict,
      };
    });
    return { tables, checks };
  }

  private checkState(
    line: Line,
    check: Check,
    standings: ReadonlyMap<string, Standing>,
    latest: ReadonlyMap<string, LatestRow>,
  ): CheckState {
    const table = check.kind === 'query' ? (check.about ?? check.reads[0] ?? '') : check.table;
    const own =
      line.slug === PRODUCTION || standings.get(table)?.where !== 'production'
        ? latest.get(`${line.slug} ${check.id}`)
        : undefined;
    const found =
      own ?? (standings.get(table)?.where === 'production' ? latest.get(`${PRODUCTION} ${check.id}`) : undefined);
    const { tolerate } = check;
    return {
      id: check.id,
      kind: check.kind,
      title: checkTitle(check),
      table,
      columns: check.kind === 'query' ? [] : check.columns,
      advisory: check.advisory,
      tolerate: tolerate ? (tolerate.kind === 'count' ? `${tolerate.count} rows` : `${tolerate.share * 100} %`) : null,
      comment: check.comment ?? null,
      verdict: found?.verdict ?? 'not run',
      atFault: found?.at_fault ?? null,
      total: found?.total ?? null,
      at: found ? asInstant(found.at.toISOString()) : null,
      run: found?.run_id ?? null,
      environment: found?.environment ?? null,
    };
  }

  private async latest(slug: string): Promise<Map<string, LatestRow>> {
    const rows = await this.results.query<LatestRow[]>(
      `select distinct on (c.environment, c.check_id) c.environment, c.check_id, c.verdict, c.at_fault, c.total, c.at, s.run_id
       from check_result c join run_step s on s.id = c.step_id
       where c.environment = any($1) order by c.environment, c.check_id, c.at desc, c.id desc`,
      [[slug, PRODUCTION]],
    );
    return new Map(rows.map((r) => [`${r.environment} ${r.check_id}`, r]));
  }

  /** The results of one check over time, newest first, with SQL and rows at fault. */
  async history(slug: string, checkId: string): Promise<Sent<CheckOutcome>[]> {
    const rows = await this.results.query<LatestRow[]>(
      `select c.environment, c.check_id, c.verdict, c.at_fault, c.total, c.at, c.sql, c.rows, s.run_id
       from check_result c join run_step s on s.id = c.step_id
       where c.environment = any($1) and c.check_id = $2 order by c.at desc, c.id desc limit 100`,
      [[slug, PRODUCTION], checkId],
    );
    return rows.map((r) => ({
      environment: r.environment,
      verdict: r.verdict,
      atFault: r.at_fault,
      total: r.total,
      at: r.at,
      run: r.run_id,
      sql: r.sql,
      rows: r.rows,
    }));
  }

  /** The loads of one table, newest first. */
  async loads(slug: string, table: string): Promise<Sent<LoadEntry>[]> {
    return this.results.query<Sent<LoadEntry>[]>(
      `select s.run_id as run, s.state, s.rows_in as "rowsIn", s.rows_out as "rowsOut", s.counts, s.started_at as "startedAt", s.finished_at as "finishedAt",
         s.error, r.environment, r.commit, r.kind, r.person
       from run_step s join run r on r.id = s.run_id
       where s.table_name = $2 and r.environment = any($1) and s.state not in ('waiting', 'reused') order by s.id desc limit 100`,
      [[slug, PRODUCTION], table],
    );
  }

  /** Errors of the project that are in an environment's files. */
  static errors(project: Project): number {
    return project.diagnostics.filter((d) => d.severity === 'error').length;
  }
}
