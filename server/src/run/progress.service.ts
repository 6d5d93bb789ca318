import { Inject, Injectable, type OnModuleDestroy, type OnModuleInit } from '@nestjs/common';
import pg from 'pg';
import { Subject, type Observable } from 'rxjs';
import { Config } from '../shared/config.js';
import { logger } from '../shared/problem.js';

export interface ProgressNote {
  readonly run: number;
  readonly environment: string;
  /** `stop`: the run is asked to stop. */
  readonly what: 'changed' | 'stop';
}

const CHANNEL = 'ouvrage_run';

/** Tells every server process, through the application's database, that a run has moved on. */
@Injectable()
export class ProgressService implements OnModuleInit, OnModuleDestroy {
  private readonly subject = new Subject<ProgressNote>();
  private listener?: pg.Client;
  private ending = false;
  readonly notes: Observable<ProgressNote> = this.subject.asObservable();

  constructor(@Inject(Config) private readonly config: Config) {}

  async onModuleInit(): Promise<void> {
    await this.listen();
  }

  async onModuleDestroy(): Promise<void> {
    this.ending = true;
    this.subject.complete();
    await this.listener?.end().catch(() => undefined);
  }

  private async listen(): Promise<void> {
    const client = new pg.Client(this.config.application);
    client.on('error', (error) => logger.warn(error));
    client.on('end', () => {
      if (!this.ending) setTimeout(() => void this.listen().catch((error: unknown) => logger.warn(error)), 1000);
    });
    client.on('notification', ({ payload }) => this.subject.next(JSON.parse(payload ?? '{}') as ProgressNote));
    await client.connect();
    await client.query(`listen ${CHANNEL}`);
    this.listener = client;
  }

  async tell(note: ProgressNote): Promise<void> {
    // Who listens asks again by itself: a note that is lost is no reason to fail what it is about.
    await this.listener
      ?.query('select pg_notify($1, $2)', [CHANNEL, JSON.stringify(note)])
      .catch((error: unknown) => logger.warn(error));
  }
}
