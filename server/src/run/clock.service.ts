import type { Clock } from '../warehouse/loaded.js';
import { Inject, Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { reachable } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { dateOf } from '@ouvrage/demo';
import { Repository } from 'typeorm';
import { Config } from '../shared/config.js';
import { Setting } from '../shared/setting.entity.js';

/** The stand-in's clock, where there is one. */
export const HARBOUR_DAY = 'harbour day';

/** What time it is for lateness and for loads. */
@Injectable()
export class ClockService {
  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
  ) {}

  /** The end of the harbour's day in the demo, as its rows are of that time; undefined where the real time counts. */
  async harbour(): Promise<Date | undefined> {
    const day = (await this.settings.findOneBy({ name: HARBOUR_DAY }))?.value as number | undefined;
    return day === undefined ? undefined : new Date(`${dateOf(day + 1)}T00:00:00Z`);
  }

  /** The clock of each table of a project: the stand-in's for what comes from the stand-in alone. */
  async clocks(project: Project): Promise<(table: string) => Clock> {
    if ((await this.harbour()) === undefined) return () => 'real';
    const { port, database, user } = this.config.harbour;
    const bound = (await this.settings.query(
      `select distinct b.server from binding b join connection c on c.id = b.connection_id where c.port = $1 and c.database = $2 and c.user_name = $3`,
      [port, database, user],
    )) as { server: string }[];
    const standIns = new Set(bound.map((b) => b.server));
    const isStandIn = (name: string) => standIns.has(name) || project.servers.get(name)?.wrapper === 'file_fdw';
    return (table) => {
      const sources = [...reachable(project.reads, [table]).keys()].flatMap((name) => {
        const found = project.tables.get(name);
        return found?.kind === 'source' ? [found.server] : [];
      });
      return sources.length > 0 && sources.every(isStandIn) ? 'stand-in' : 'real';
    };
  }
}
