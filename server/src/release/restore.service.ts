import { Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { KeptCopies, RestorePlan } from '@ouvrage/api/release';
import { targetPlace } from '@ouvrage/core/load';
import type { Project } from '@ouvrage/core/model';
import { compareProjects, namesSince, restoredTables } from '@ouvrage/core/review';
import { qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { MoreThanOrEqual, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Release } from '../run/run.entities.js';
import type { Sent } from '../shared/answers.js';
import { logger, Problem } from '../shared/problem.js';
import { Setting } from '../shared/setting.entity.js';
import { currentTime } from '../shared/time.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { copiesOf, dropEmpty, Keeping, keptList, placesOf } from './kept-copies.js';
import type { Restore } from './release-transaction.js';

const DAYS = 'kept copies days';
const USUAL_DAYS = 7;
const DAY_MILLISECONDS = 86_400_000;
const SWEEP_MILLISECONDS = 3_600_000;

/** What releases keep of production, for how long, and how production goes back by it. */
@Injectable()
export class RestoreService implements OnApplicationBootstrap, OnApplicationShutdown {
  private sweeping: NodeJS.Timeout | undefined;

  constructor(
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly people: PeopleService,
  ) {}

  onApplicationBootstrap(): void {
    const sweep = () => void this.sweep().catch((error: unknown) => logger.warn(error));
    sweep();
    this.sweeping = setInterval(sweep, SWEEP_MILLISECONDS);
  }

  onApplicationShutdown(): void {
    clearInterval(this.sweeping);
  }

  private get environment() {
    return this.projects.environmentOf(undefined);
  }

  /** Does something with the list of copies; it is made with production's schemas. */
  private async withList<T>(body: (client: pg.ClientBase) => Promise<T>): Promise<T> {
    await this.warehouse.prepare(this.environment, []);
    return this.warehouse.transaction('production', body);
  }

  /** Days for which copies are kept; 0 where none are made. */
  async days(): Promise<number> {
    const found = await this.settings.findOneBy({ name: DAYS });
    return typeof found?.value === 'number' ? found.value : USUAL_DAYS;
  }

  /** Changes how long copies are kept. Those that are older go. */
  async keepFor(person: Person, days: number): Promise<void> {
    await this.settings.upsert({ name: DAYS, value: days }, ['name']);
    await this.people.audit(person, 'keeping of copies changed', DAYS, { days });
    await this.sweep();
  }

  /** What keeps the tables that a release replaces; undefined where nothing is kept. */
  async keeping(client: pg.ClientBase, run: number): Promise<Keeping | undefined> {
    return (await this.days()) === 0 ? undefined : new Keeping(client, this.environment, run);
  }

  /** Drops the copies that have been kept for long enough; those that a release is putting back stay. */
  async sweep(): Promise<void> {
    const until = new Date(currentTime().getTime() - (await this.days()) * DAY_MILLISECONDS);
    await this.withList(async (client) => {
      const list = keptList(this.environment);
      const { rows } = await client.query<{ schema: string }>(
        `delete from ${list} where (run_id, table_name) in (select run_id, table_name from ${list} where kept_at <= $1 for update skip locked) returning place_schema as schema`,
        [until],
      );
      await dropEmpty(
        client,
        this.environment,
        rows.map((r) => r.schema),
      );
    });
  }

  /** What is kept, by release, with the disk that it takes. */
  async kept(): Promise<Sent<KeptCopies>> {
    const days = await this.days();
    const found = await this.withList(async (client) => {
      const { rows } = await client.query<{ run: number; tables: string[]; at: Date; schemas: string[] }>(
        `select run_id as run, array_agg(table_name order by table_name) as tables, min(kept_at) as at, array_agg(distinct place_schema) as schemas
         from ${keptList(this.environment)} group by run_id order by run_id desc`,
      );
      const { rows: sizes } = await client.query<{ schema: string; bytes: string }>(
        `select n.nspname as schema, sum(pg_total_relation_size(c.oid))::text as bytes from pg_namespace n join pg_class c on c.relnamespace = n.oid and c.relkind = 'r'
         where n.nspname = any($1) group by 1`,
        [rows.flatMap((r) => r.schemas)],
      );
      const bytesOf = new Map(sizes.map((s) => [s.schema, Number(s.bytes)]));
      return rows.map((r) => ({ ...r, bytes: r.schemas.reduce((sum, s) => sum + (bytesOf.get(s) ?? 0), 0) }));
    });
    const releases = await this.releases.find({ select: { id: true, runId: true, message: true } });
    return {
      days,
      bytes: found.reduce((sum, f) => sum + f.bytes, 0),
      releases: found.flatMap(({ run, tables, at, bytes }) => {
        const release = releases.find((r) => r.runId === run);
        if (!release) return [];
        const until = new Date(at.getTime() + days * DAY_MILLISECONDS);
        return [{ id: release.id, message: release.message, tables, bytes, until }];
      }),
    };
  }

  /** How production goes back to before a release by its copies, with what becomes of each table. */
  async plan(first: number): Promise<{ readonly plan: RestorePlan; readonly restore: Restore }> {
    const releases = await this.releases.find({ where: { id: MoreThanOrEqual(first) }, order: { id: 'ASC' } });
    const [release] = releases;
    if (!release?.commitBefore)
      throw new Problem(409, 'first-release', 'There was nothing before it to go back to', 'Choose a later release.');
    const earlier = await this.projects.projectAt(release.commitBefore);
    const now = (await this.projects.line(PRODUCTION)).project;
    const names = namesSince(await Promise.all(releases.map((r) => this.projectsOf(r))));
    const kept = await this.withList((client) =>
      copiesOf(
        client,
        this.environment,
        releases.map((r) => r.runId),
      ),
    );
    const copies = new Map(
      [...kept].flatMap(([table, [oldest]]) => (earlier.tables.has(table) ? [[table, oldest!]] : [])),
    );
    const lastPlaces = new Map(
      [...copies].map(([table, copy]) => {
        const name = names.get(table) ?? table;
        const present = now.tables.get(name);
        return [table, present ? targetPlace(this.environment, present) : (kept.get(name)?.at(-1) ?? copy).place];
      }),
    );
    const changed = compareProjects(now, earlier).tables.filter((t) => t.kind !== 'deleted');
    const tables = restoredTables(earlier, now, {
      tables: new Set([...changed.map((t) => t.table), ...copies.keys()]),
      copies: new Set(copies.keys()),
    });
    const sizes = await this.sizes(copies);
    return {
      restore: { copies, lastPlaces, names: new Map([...names].filter(([was]) => earlier.tables.has(was))) },
      plan: {
        releases: releases.map((r) => r.id),
        tables: tables.map((t) => {
          const rows = copies.get(t.table)?.loaded?.['row_count'];
          return {
            ...t,
            rows: typeof rows === 'number' ? String(rows) : null,
            bytes: sizes.get(t.table) ?? null,
          };
        }),
      },
    };
  }

  private async projectsOf({ commit, commitBefore }: Release): Promise<{ before: Project; after: Project }> {
    const after = await this.projects.projectAt(commit);
    return { before: commitBefore === null ? after : await this.projects.projectAt(commitBefore), after };
  }

  private async sizes(copies: Restore['copies']): Promise<Map<string, number>> {
    const all = [...copies.values()].flatMap((c) => placesOf(c.place).map((p) => [c.table, qualified(p)] as const));
    return this.warehouse.session('production', async (client) => {
      const { rows } = await client.query<{ table: string; bytes: string | null }>(
        `select t as table, sum(pg_total_relation_size(to_regclass(p)))::text as bytes from unnest($1::text[], $2::text[]) as a (t, p) group by 1`,
        [all.map(([table]) => table), all.map(([, place]) => place)],
      );
      return new Map(rows.map((r) => [r.table, Number(r.bytes ?? 0)]));
    });
  }
}
