import { Inject, Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { ident } from '@ouvrage/core/sql';
import {
  copyText,
  dateOf,
  deliveriesOf,
  FIRST_DAYS,
  harbourAt,
  type HarbourTable,
  instantOf,
  MORNING,
  withTroubles,
} from '@ouvrage/demo';
import pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { Repository } from 'typeorm';
import { DropFolder } from '../delivery/drop-folder.js';
import { notFound, Problem } from '../shared/problem.js';
import { Setting } from '../shared/setting.entity.js';
import { PRODUCTION } from '../project/branches.js';
import { ClockService, HARBOUR_DAY } from '../run/clock.service.js';
import { RunQueue } from '../run/run-queue.js';
import { written } from '../look/export-formats.js';
import { Config } from '../shared/config.js';
import { handledClient } from '../shared/pools.js';
import { currentTime } from '../shared/time.js';
import { Turns } from '../shared/turns.js';

const PATIENCE_MILLISECONDS = 60_000;

/** The stand-in for the harbour's operational database, and its clock. */
@Injectable()
export class HarbourService {
  private readonly turns = new Turns(1, 1, PATIENCE_MILLISECONDS);

  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
    private readonly folder: DropFolder,
    private readonly clock: ClockService,
    private readonly queue: RunQueue,
  ) {}

  /** The harbour's day, undefined where there is no demo. */
  async day(): Promise<{ day: number; date: string } | undefined> {
    const day = (await this.settings.findOneBy({ name: HARBOUR_DAY }))?.value as number | undefined;
    return day === undefined ? undefined : { day, date: dateOf(day) };
  }

  /** @param first the day on which the demo begins */
  async start(first = FIRST_DAYS): Promise<void> {
    if ((await this.day()) !== undefined) return;
    await this.moveTo(first);
    for (let day = first - 2; day <= first; day++) await this.deliver(day);
  }

  /** Sets the demo's clock, at the latest to a day after the harbour's. @throws Problem where it cannot be set so */
  setClock(time: Date): Promise<void> {
    return this.inTurn(() => this.setWithinDay(time));
  }

  private async setWithinDay(time: Date): Promise<void> {
    const now = await this.day();
    if (!now || !(await this.clock.isSet())) throw notFound('A clock of the demo');
    const latest = new Date(instantOf(now.day + 1, MORNING));
    if (time < currentTime() || time > latest)
      throw new Problem(
        422,
        'clock',
        `The demo’s clock cannot be set to ${time.toISOString()}`,
        `It goes forward only, until ${latest.toISOString()}; then move the harbour on.`,
      );
    await this.moveClock(time);
  }

  /** Runs would seem to take as long as the clock jumps: it waits for those of production, and may be late by then. */
  private async moveClock(time: Date): Promise<void> {
    await this.queue.whileNoneIn(PRODUCTION, async () => {
      if (time > currentTime()) await this.clock.set(time);
    });
  }

  /** One move at a time: each waits with a connection of its own. @throws Problem where none was to be had in time */
  private async inTurn<T>(work: () => Promise<T>): Promise<T> {
    const end = await this.turns.turn('harbour');
    if (!end)
      throw new Problem(429, 'moving', 'The harbour is being moved on already', 'Try again once it has been.', {
        retryAfter: 5,
      });
    return work().finally(end);
  }

  /** Moves on, and delivers the files of the days in between; a clock of the demo's own goes to the morning after. */
  advance(days: number): Promise<{ day: number; date: string } | undefined> {
    return this.inTurn(() => this.moveOn(days));
  }

  private async moveOn(days: number): Promise<{ day: number; date: string } | undefined> {
    const now = await this.day();
    if (!now) return undefined;
    const moved = await this.moveTo(now.day + days);
    const morning = new Date(instantOf(moved.day, MORNING));
    if (await this.clock.isSet()) await this.moveClock(morning);
    for (let day = now.day + 1; day <= moved.day; day++) await this.deliver(day);
    return moved;
  }

  private async deliver(day: number): Promise<void> {
    for (const { name, text, columns = [], rows = [] } of deliveriesOf(day)) {
      const batches = async function* () {
        yield rows.map((r) => [...r]);
      };
      await this.folder.receive(
        name,
        text === undefined ? Readable.from(written('parquet', columns, batches())) : Readable.from([text]),
      );
    }
  }

  /** Writes the whole database as it is at the end of a day, in one transaction. */
  async moveTo(day: number): Promise<{ day: number; date: string }> {
    const client = handledClient(new pg.Client(this.config.harbour));
    await client.connect();
    try {
      await client.query('begin');
      await client.query('create schema if not exists ops');
      const tables = harbourAt(day);
      // What goes wrong at the harbour goes wrong in its past.
      for (const table of (await this.clock.isSet()) ? withTroubles(tables, day) : tables)
        await this.write(client, table);
      await client.query('analyze');
      await client.query('commit');
    } finally {
      await client.end();
    }
    await this.settings.upsert({ name: HARBOUR_DAY, value: day as never }, ['name']);
    return { day, date: dateOf(day) };
  }

  private async write(client: pg.Client, table: HarbourTable): Promise<void> {
    const name = `ops.${ident(table.name)}`;
    const key = table.primaryKey === undefined ? '' : `, primary key (${table.primaryKey})`;
    await client.query(`drop table if exists ${name} cascade`);
    await client.query(`create table ${name} (${table.columns.join(', ')}${key})`);
    await pipeline(Readable.from([copyText(table.rows)]), client.query(copyFrom(`copy ${name} from stdin`)));
  }
}
