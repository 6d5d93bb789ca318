import { Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import { DataSource, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PRODUCTION } from '../project/branches.js';

import { RunService } from '../run/run.service.js';
import { isConnectionLost } from '../shared/connection-lost.js';
import { logger } from '../shared/problem.js';
import { type AboutFile, DeliveryLoader, whyNotLoaded } from './delivery-loader.js';
import { Delivery } from './delivery.entities.js';
import { DropFolder, type Outcome, OWN_NAMES } from './drop-folder.js';

const POLL_MILLISECONDS = 3000;
/** A file that changed within this time may still be being written. */
const SETTLED_MILLISECONDS = 2000;

/** A file whose reading was begun so often without an end is not read again. */
const MOST_BEGINNINGS = 2;

/** Who runs what a file's arrival triggers. */
const DROP_FOLDER = { name: 'drop folder', displayName: 'Drop folder', role: 'releaser' } as Person;

/** Watches the drop folder, and loads each file into the landing table whose pattern takes its name. */
@Injectable()
export class DeliveryWatcher implements OnApplicationShutdown {
  private timer: NodeJS.Timeout | undefined;
  private going: Promise<void> | undefined;

  constructor(
    @InjectRepository(Delivery) private readonly deliveries: Repository<Delivery>,
    private readonly folder: DropFolder,
    private readonly loader: DeliveryLoader,
    private readonly runs: RunService,
    @InjectDataSource() private readonly source: DataSource,
  ) {}

  /** Looks into the folder from now on; where a look is still going on, the next one waits. */
  watch(): void {
    this.timer ??= setInterval(() => {
      this.going ??= this.look(SETTLED_MILLISECONDS)
        .catch((error: unknown) => logger.warn(error))
        .finally(() => (this.going = undefined));
    }, POLL_MILLISECONDS);
  }

  async onApplicationShutdown(): Promise<void> {
    clearInterval(this.timer);
    await this.going;
  }

  /**
   * Takes all files that are there and have not changed for some time. One process at a time: the
   * others find the lock taken and leave. What goes wrong with one file is told of that file.
   */
  async look(settled: number): Promise<void> {
    const names = await this.folder.waiting(settled);
    if (names.length === 0) return;
    await this.alone(async () => {
      const run = new Set<string>();
      for (const name of names) for (const table of await this.take(name)) run.add(table);
      if (run.size) await this.trigger([...run]);
    });
  }

  /** Does something while no other process does: a lock of the application's database, which no query of a person reaches. */
  private async alone(work: () => Promise<void>): Promise<void> {
    const runner = this.source.createQueryRunner();
    await runner.connect();
    try {
      const [lock] = (await runner.query(`select pg_try_advisory_lock(hashtext('ouvrage deliveries')) as mine`)) as {
        mine: boolean;
      }[];
      if (!lock!.mine) return;
      try {
        await work();
      } finally {
        await runner.query(`select pg_advisory_unlock(hashtext('ouvrage deliveries'))`);
      }
    } finally {
      await runner.release();
    }
  }

  /**
   * Takes one file. A file that the server did not survive twice is put away before it is read again.
   * @returns the tables that the file's arrival is to run
   */
  private async take(name: string): Promise<readonly string[]> {
    if (OWN_NAMES.includes(name)) return this.take(await this.folder.rename(name));
    try {
      const before = await this.folder.begin(name);
      if (before >= MOST_BEGINNINGS) {
        await this.ended(name, { state: 'failed', reason: `the server ended ${before} times while it read this file` });
        return [];
      }
      const { outcome, of, thenRun } = await this.loader.load(this.folder.pathOf(name), name);
      await this.ended(name, outcome, of);
      return thenRun;
    } catch (error) {
      logger.warn(error);
      // It stays where it is until the database is back.
      if (!isConnectionLost(error))
        await this.ended(name, { state: 'failed', reason: whyNotLoaded(error) }).catch((e: unknown) => logger.warn(e));
      return [];
    } finally {
      await this.folder.end(name);
    }
  }

  /** Records what became of a file, and puts it away. */
  private async ended(name: string, outcome: Outcome, of: Partial<AboutFile> = {}): Promise<void> {
    const kept = await this.folder.putAway(name, outcome);
    await this.deliveries.insert({
      file: name,
      kept,
      table: of.table ?? null,
      digest: of.digest ?? '',
      state: outcome.state,
      bytes: String(of.size ?? 0),
      rows: outcome.rows ?? null,
      rejects: outcome.rejects ?? null,
      reason: outcome.reason ?? null,
      milliseconds: of.milliseconds ?? 0,
    });
  }

  private async trigger(tables: readonly string[]): Promise<void> {
    await this.runs
      .build(DROP_FOLDER, PRODUCTION, { tables, upstream: true, downstream: false })
      .catch((error: unknown) => logger.warn(error));
  }
}
