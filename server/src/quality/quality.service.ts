import type { CheckOutcome, CheckState, LoadEntry, TableState } from '@ouvrage/api/quality';
import { asInstant, type Sent } from '../shared/answers.js';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { checkDigests, checksOf, checkTitle, tableOfCheck, worst, type Check, type Verdict } from '@ouvrage/core/check';
import type { Project } from '@ouvrage/core/model';
import { Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import type { FaultRows } from '@ouvrage/api/rows';
import { checkStandings } from '../run/check-standings.js';
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
  says: string | null;
  isAlone: boolean;
}

type Latest = ReadonlyMap<string, readonly LatestRow[]>;

/** The newest verdict that is about a check as it is written, over its table as it is read here. */
function foundOf(check: Check, line: Line, standing: Standing | undefined, latest: Latest): LatestRow | undefined {
  const says = checkDigests(line.project).get(check.id);
  const isOfProduction = line.slug === PRODUCTION || standing?.where === 'production';
  return (latest.get(check.id) ?? [])
    .filter((r) => r.says === null || r.says === says)
    .filter((r) =>
      // A workspace's own load is not what production has; its checks alone were run over that.
      isOfProduction ? r.environment === PRODUCTION || r.isAlone : r.environment === line.slug,
    )
    .reduce<LatestRow | undefined>((newest, r) => (newest && newest.at >= r.at ? newest : r), undefined);
}

/** A release that did not get through changed nothing: its verdicts are about tables that were never there. */
export const OF_WHAT_IS_THERE = `(r.kind <> 'release' or r.state not in ('failed', 'stopped', 'interrupted'))`;

/** Verdicts on the checks of a project, as they were last found in an environment. */
@Injectable()
export class QualityService {
  constructor(
    @InjectRepository(CheckResult) private readonly results: Repository<CheckResult>,
    readonly projects: ProjectService,
    readonly warehouse: WarehouseService,
  ) {}

  /** The tables and checks of an environment with their newest verdicts. */
  async state(slug: string): Promise<{ tables: TableState[]; checks: CheckState[] }> {
    return this.stateOf(await this.projects.line(slug));
  }

  /** The same, of a project as it was read: another reading may know other checks. */
  async stateOf(line: Line): Promise<{ tables: TableState[]; checks: CheckState[] }> {
    const standings = await this.warehouse.standings(
      line.project,
      line.environment,
      this.projects.environmentOf(undefined),
    );
    const [latest, judged] = [await this.latest(line.slug), await checkStandings(this, line, standings)];
    const checks = checksOf(line.project).map((c) => this.checkState(line, c, judged, latest));
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

  private checkState(line: Line, check: Check, standings: ReadonlyMap<string, Standing>, latest: Latest): CheckState {
    const table = tableOfCheck(check);
    const found = foundOf(check, line, standings.get(table), latest);
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

  /** The newest verdict on each text of each check, in each environment, of loads and of checks alone. */
  private async latest(slug: string): Promise<Latest> {
    const rows = await this.results.query<LatestRow[]>(
      `select distinct on (c.environment, c.check_id, c.says, s.kind = 'check')
         c.environment, c.check_id, c.verdict, c.at_fault, c.total, c.at, c.says, s.run_id, s.kind = 'check' as "isAlone"
       from check_result c join run_step s on s.id = c.step_id join run r on r.id = s.run_id
       where c.environment = any($1) and ${OF_WHAT_IS_THERE} order by c.environment, c.check_id, c.says, s.kind = 'check', c.at desc, c.id desc`,
      [[slug, PRODUCTION]],
    );
    const latest = new Map<string, LatestRow[]>();
    for (const row of rows) latest.set(row.check_id, [...(latest.get(row.check_id) ?? []), row]);
    return latest;
  }

  /** The results of one check over time, newest first, with SQL and rows at fault. */
  async history(slug: string, checkId: string): Promise<Sent<CheckOutcome>[]> {
    const rows = await this.results.query<LatestRow[]>(
      `select c.environment, c.check_id, c.verdict, c.at_fault, c.total, c.at, c.sql, c.rows, s.run_id
       from check_result c join run_step s on s.id = c.step_id join run r on r.id = s.run_id
       where c.environment = any($1) and ${OF_WHAT_IS_THERE} and c.check_id = $2 order by c.at desc, c.id desc limit 100`,
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
       where s.table_name = $2 and s.kind <> 'check' and r.environment = any($1) and s.state not in ('waiting', 'reused') order by s.id desc limit 100`,
      [[slug, PRODUCTION], table],
    );
  }

  /** Errors of the project that are in an environment's files. */
  static errors(project: Project): number {
    return project.diagnostics.filter((d) => d.severity === 'error').length;
  }
}
