import type { Clock } from '../warehouse/loaded.js';
import { Inject, Injectable, type OnModuleDestroy, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { reachable } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { dateOf } from '@ouvrage/demo';
import { Repository } from 'typeorm';
import { Config } from '../shared/config.js';
import { logger } from '../shared/problem.js';
import { Setting } from '../shared/setting.entity.js';
import { currentTime, setClockOffset } from '../shared/time.js';

/** The stand-in's clock, where there is one. */
export const HARBOUR_DAY = 'harbour day';

/** The setting that the database function `clock_now` reads, too. */
const CLOCK_OFFSET = 'clock offset';
/** How soon a process learns that another one has moved the clock. */
const LOOK_MILLISECONDS = 2000;

/** What time it is for lateness and for loads, and in the demo for all that happens. */
@Injectable()
export class ClockService implements OnModuleInit, OnModuleDestroy {
  private timer: NodeJS.Timeout | undefined;

  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
  ) {}

  async onModuleInit(): Promise<void> {
    await this.look();
    if (!this.config.demo) return;
    this.timer = setInterval(() => void this.look().catch((error: unknown) => logger.warn(error)), LOOK_MILLISECONDS);
    this.timer.unref();
  }

  onModuleDestroy(): void {
    clearInterval(this.timer);
    setClockOffset(0);
  }

  private async look(): Promise<void> {
    setClockOffset(((await this.settings.findOneBy({ name: CLOCK_OFFSET }))?.value as number | undefined) ?? 0);
  }

  /** Whether the demo has a clock of its own. */
  async isSet(): Promise<boolean> {
    return (await this.settings.findOneBy({ name: CLOCK_OFFSET })) !== null;
  }

  /** Sets the demo's clock; it goes on from there. @throws Error where it would go back after it was set */
  async set(time: Date): Promise<void> {
    const offset = time.getTime() - Date.now();
    if ((await this.isSet()) && time < currentTime()) throw new Error('the clock does not go back');
    await this.settings.upsert({ name: CLOCK_OFFSET, value: offset as never }, ['name']);
    setClockOffset(offset);
  }

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
