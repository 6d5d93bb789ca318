import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { CheckPoint, CheckSeries, FailingSince, QualityDay, QualityDays, ReleaseMark } from '@ouvrage/api/quality';
import { checksOf, type Verdict } from '@ouvrage/core/check';
import { reachable } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { CheckResult } from '../run/run.entities.js';
import { tablesOf } from '../run/run-plan.js';
import type { Sent } from '../shared/answers.js';
import { notFound, Problem } from '../shared/problem.js';
import { OF_WHAT_IS_THERE } from './quality.service.js';

/** Verdicts as a rank, the worst first. */
const RANKED: readonly Verdict[] = ['broken', 'advisory', 'not run', 'holds'];
const rankOf = (verdict: string) => `array_position(array[${RANKED.map((v) => `'${v}'`).join(', ')}], ${verdict}) - 1`;
const MOST_POINTS = 400;
const MOST_LOADS = 12;
const POINTS_AT_A_TIME = 5000;
const POINT = `c.check_id as id, c.verdict, c.at_fault as "atFault", c.total, c.at, s.run_id as run`;

export interface DaysAsked {
  readonly environment: string;
  readonly zone: string;
  readonly days: number;
}

/** From the last verdict that held to the first that did not. */
interface Between {
  readonly from: Date;
  readonly to: Date;
}

type Point = Sent<CheckPoint> & { readonly at: Date };

/** Verdicts over time: by days, of one check, and what changed before one broke. */
@Injectable()
export class QualityOverTime {
  constructor(
    @InjectRepository(CheckResult) private readonly results: Repository<CheckResult>,
    private readonly projects: ProjectService,
  ) {}

  /** The worst verdict of each table on each day. A load that did not end well left the table as it was: not run. */
  async days({ environment, zone, days }: DaysAsked): Promise<QualityDays> {
    const { project } = await this.projects.line(environment);
    const begin = `(((clock_now() at time zone $2)::date - $3::int + 1)::timestamp at time zone $2)`;
    const rows = await this.inZone<{ table: string; day: number; rank: number }>(
      `select t.table_name as "table", (t.at at time zone $2)::date - ((clock_now() at time zone $2)::date - $3::int + 1) as day, min(t.rank)::int as rank
       from (
         select c.table_name, c.at, ${rankOf('c.verdict')} as rank from check_result c join run_step s on s.id = c.step_id join run r on r.id = s.run_id
         where c.environment = $1 and c.at >= ${begin} and ${OF_WHAT_IS_THERE}
         union all
         select s.table_name, s.finished_at, ${rankOf(`case s.state when 'done' then 'holds' else 'not run' end`)}
         from run_step s join run r on r.id = s.run_id
         where r.environment = $1 and ${OF_WHAT_IS_THERE} and s.finished_at >= ${begin} and s.kind in ('load', 'intake') and s.state in ('done', 'failed', 'blocked', 'interrupted')
         union all
         select m.table_name, m.at, ${rankOf(`'advisory'`)} from measurement m
         where $1 = '${PRODUCTION}' and m.at >= ${begin} and m.judged -> m.finding ->> 'verdict' = 'outside'
       ) t group by 1, 2`,
      [environment, zone, days],
    );
    const dates = await this.inZone<{ day: string }>(
      `select ((clock_now() at time zone $1)::date - $2::int + n)::text as day from generate_series(1, $2::int) n order by n`,
      [zone, days],
    );
    const found = new Map<string, (Verdict | null)[]>();
    for (const { table, day, rank } of rows) {
      if (!project.tables.has(table) || day < 0 || day >= days) continue;
      const verdicts = found.get(table) ?? Array<Verdict | null>(days).fill(null);
      verdicts[day] = RANKED[rank]!;
      found.set(table, verdicts);
    }
    return {
      environment,
      zone,
      days: dates.map((d) => d.day),
      tables: [...found].map(([table, verdicts]) => ({ table, verdicts })),
    };
  }

  /** What ran of a table on a day, newest first. */
  async day(
    table: string,
    { environment, zone, day }: Omit<DaysAsked, 'days'> & { readonly day: string },
  ): Promise<Sent<QualityDay>> {
    const within = (at: string) =>
      `${at} >= ($3::date::timestamp at time zone $4) and ${at} < (($3::date + 1)::timestamp at time zone $4)`;
    const values = [environment, table, day, zone];
    const results = await this.inZone<Sent<CheckPoint>>(
      `select ${POINT} from check_result c join run_step s on s.id = c.step_id join run r on r.id = s.run_id
       where c.environment = $1 and c.table_name = $2 and ${OF_WHAT_IS_THERE} and ${within('c.at')} order by c.at desc, c.id desc limit 2000`,
      values,
    );
    const loads = await this.inZone<Sent<QualityDay['loads'][number]>>(
      `select s.run_id as run, s.state, s.rows_in as rows, s.error ->> 'message' as error, s.finished_at as at
       from run_step s join run r on r.id = s.run_id
       where r.environment = $1 and s.table_name = $2 and s.kind <> 'check' and ${within('s.finished_at')} and s.state <> 'reused'
       order by s.finished_at desc limit 200`,
      values,
    );
    return { results, loads };
  }

  /** All verdicts of the days, oldest first, some thousands at a time. */
  async *points({
    environment,
    zone,
    days,
  }: DaysAsked): AsyncGenerator<(Sent<CheckPoint> & { readonly table: string })[]> {
    for (let after = '0'; ;) {
      const found = await this.inZone<Sent<CheckPoint> & { readonly table: string; readonly number: string }>(
        `select ${POINT}, c.table_name as "table", c.id as number from check_result c join run_step s on s.id = c.step_id join run r on r.id = s.run_id
         where c.environment = $1 and ${OF_WHAT_IS_THERE} and c.at >= (((clock_now() at time zone $2)::date - $3::int + 1)::timestamp at time zone $2) and c.id > $4
         order by c.id limit ${POINTS_AT_A_TIME}`,
        [environment, zone, days, after],
      );
      yield found;
      if (found.length < POINTS_AT_A_TIME) return;
      after = found.at(-1)!.number;
    }
  }

  /** A check over time, with the releases beside it and what changed before it stopped holding. */
  async series(slug: string, environment: string, id: string): Promise<Sent<CheckSeries>> {
    const { project } = await this.projects.line(slug);
    const check = checksOf(project).find((c) => c.id === id);
    if (!check) throw notFound(`The check ${id}`);
    const newest = await this.results.query<Point[]>(
      `select ${POINT} from check_result c join run_step s on s.id = c.step_id join run r on r.id = s.run_id
       where c.environment = $1 and c.check_id = $2 and ${OF_WHAT_IS_THERE} order by c.at desc, c.id desc limit ${MOST_POINTS}`,
      [environment, id],
    );
    const points = newest.reverse();
    const first = points[0];
    return {
      points,
      releases: first && environment === PRODUCTION ? await this.releasesAfter(first.at) : [],
      failing: await this.failing(project, { environment, tables: tablesOf(check) }, points),
    };
  }

  private async failing(
    project: Project,
    of: { readonly environment: string; readonly tables: readonly string[] },
    points: readonly Point[],
  ): Promise<Sent<FailingSince> | null> {
    if (points.length === 0 || points.at(-1)!.verdict === 'holds') return null;
    const held = points.findLastIndex((p) => p.verdict === 'holds');
    const broke = points[held + 1]!;
    const heldAt = points[held]?.at ?? null;
    const upstream = reachable(project.needs, of.tables);
    const known = { since: broke.at, run: broke.run, results: points.length - held - 1, held: heldAt };
    if (!heldAt) return { ...known, releases: [], loads: [], files: [] };
    const between = { from: heldAt, to: broke.at };
    const [releases, loads, files] = await Promise.all([
      this.releasesBetween(between, upstream),
      this.loadsBetween(of.environment, between, upstream),
      this.filesBetween(between, upstream),
    ]);
    return { ...known, releases, loads, files };
  }

  private releasesAfter(from: Date): Promise<Sent<ReleaseMark>[]> {
    return this.results.query(`select id, message, person, at from release where at >= $1 order by at`, [from]);
  }

  private async releasesBetween(
    { from, to }: Between,
    upstream: ReadonlyMap<string, number>,
  ): Promise<Sent<FailingSince['releases'][number]>[]> {
    const found = await this.results.query<Sent<FailingSince['releases'][number]>[]>(
      `select id, message, person, at, tables from release where at > $1 and at <= $2 order by at desc`,
      [from, to],
    );
    return found
      .map((r) => ({ ...r, tables: r.tables.filter((t) => upstream.has(t)) }))
      .filter((r) => r.tables.length > 0);
  }

  private async loadsBetween(
    environment: string,
    { from, to }: Between,
    upstream: ReadonlyMap<string, number>,
  ): Promise<Sent<FailingSince['loads'][number]>[]> {
    const found = await this.results.query<Sent<FailingSince['loads'][number]>[]>(
      `select distinct on (s.table_name) s.table_name as "table", s.run_id as run, s.state, s.finished_at as at, s.rows_in as rows,
         (select b.rows_in from run_step b join run br on br.id = b.run_id
          where br.environment = $1 and b.table_name = s.table_name and b.kind <> 'check' and b.state = 'done' and b.id < s.id
          order by b.id desc limit 1) as "rowsBefore"
       from run_step s join run r on r.id = s.run_id
       where r.environment = $1 and s.table_name = any($4) and s.kind <> 'check' and s.finished_at > $2 and s.finished_at <= $3 and s.state not in ('reused', 'waiting')
       order by s.table_name, s.id desc`,
      [environment, from, to, [...upstream.keys()]],
    );
    return found.sort((a, b) => upstream.get(a.table)! - upstream.get(b.table)!).slice(0, MOST_LOADS);
  }

  /** Files are loaded by no run. */
  private filesBetween(
    { from, to }: Between,
    upstream: ReadonlyMap<string, number>,
  ): Promise<Sent<FailingSince['files'][number]>[]> {
    return this.results.query(
      `select table_name as "table", file, at, rows from delivery
       where state = 'loaded' and table_name = any($3) and at > $1 and at <= $2 order by at desc limit ${MOST_LOADS}`,
      [from, to, [...upstream.keys()]],
    );
  }

  /** @throws Problem for a zone that PostgreSQL does not know */
  private async inZone<T>(sql: string, values: readonly unknown[]): Promise<T[]> {
    try {
      return await this.results.query<T[]>(sql, [...values]);
    } catch (error) {
      if ((error as { code?: string }).code !== '22023') throw error;
      throw new Problem(422, 'unknown-zone', 'This time zone does not exist', 'Name one such as Europe/Paris or UTC.');
    }
  }
}
