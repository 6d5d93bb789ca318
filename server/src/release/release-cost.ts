import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { ReleaseCost } from '@ouvrage/api/release';
import { targetPlace } from '@ouvrage/core/load';
import type { Project } from '@ouvrage/core/model';
import type { ProjectChange } from '@ouvrage/core/review';
import { qualified } from '@ouvrage/core/sql';
import { Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Release } from '../run/run.entities.js';
import { freeOnDisk } from '../shared/disk.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

/** What a release takes of time and disk, as far as the loads of before say. */
@Injectable()
export class ReleaseCosts {
  constructor(
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** @param before production, which the change is of */
  async of(before: Project, { tables }: Pick<ProjectChange, 'tables'>): Promise<ReleaseCost> {
    const built = tables.filter((t) => t.kind !== 'deleted').map((t) => t.was ?? t.table);
    const took = await this.releases.query<{ seconds: number }[]>(
      `select distinct on (s.table_name) extract(epoch from s.finished_at - s.started_at)::float8 as seconds
       from run_step s join run r on r.id = s.run_id
       where r.environment = $1 and s.kind = 'load' and s.state = 'done' and s.table_name = any($2)
       and s.started_at is not null and s.finished_at is not null
       order by s.table_name, s.id desc`,
      [PRODUCTION, built],
    );
    const environment = this.projects.environmentOf(undefined);
    const places = built.flatMap((name) => {
      const table = before.tables.get(name);
      return table ? [qualified(targetPlace(environment, table))] : [];
    });
    const bytes = await this.warehouse.session('production', async (client) => {
      const { rows } = await client.query<{ bytes: string | null }>(
        'select sum(pg_total_relation_size(to_regclass(name)))::text as bytes from unnest($1::text[]) as t (name)',
        [places],
      );
      return Number(rows[0]!.bytes ?? 0);
    });
    return {
      seconds: took.reduce((sum, { seconds }) => sum + seconds, 0),
      untimed: built.length - took.length,
      bytes,
      free: freeOnDisk() ?? null,
    };
  }
}
