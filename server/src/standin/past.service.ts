import { Injectable, type OnModuleDestroy } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import type { PastProgress } from '@ouvrage/api/standin';
import { castOf, playDay, type Stage } from '@ouvrage/demo';
import { DataSource, Repository } from 'typeorm';
import { logger } from '../shared/problem.js';
import { Setting } from '../shared/setting.entity.js';

const PAST = 'past';
/** Of the advisory lock that the process holds which plays. */
const LOCK = 7_301_848;

/** How far the past was played, in days of the harbour. */
interface Kept {
  readonly from: number;
  readonly to: number;
  readonly played: number;
  readonly error: string | null;
}

/**
 * Has the demo's past played: by its people, through the public API of this very server, so that all of it has really
 * happened. This service remembers nothing but which days were played.
 */
@Injectable()
export class PastService implements OnModuleDestroy {
  private isEnding = false;

  constructor(
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
    @InjectDataSource() private readonly source: DataSource,
  ) {}

  onModuleDestroy(): void {
    this.isEnding = true;
  }

  /** A new demo has a past to play. @param from the day that it begins on; @param to the last day */
  async plan({ from, to }: Pick<Kept, 'from' | 'to'>): Promise<void> {
    await this.keep({ from, to, played: 0, error: null });
  }

  /** How far it is; null where nothing is left to play. */
  async progress(): Promise<PastProgress | null> {
    const kept = await this.kept();
    if (!kept || kept.from + kept.played >= kept.to) return null;
    return { played: kept.played, of: kept.to - kept.from, error: kept.error };
  }

  /**
   * Plays the days that are left, or lets another process of the same data do so.
   * @returns once the last day is there, or none can be played; why is remembered
   */
  async play(stage: Stage, say: (text: string) => void = () => undefined): Promise<void> {
    if ((await this.progress()) === null) return;
    const held = this.source.createQueryRunner();
    try {
      const [lock] = (await held.query('select pg_try_advisory_lock($1) as mine', [LOCK])) as { mine: boolean }[];
      if (!lock!.mine) return;
      await this.playLeft(stage, say).finally(() => held.query('select pg_advisory_unlock($1)', [LOCK]));
    } finally {
      await held.release();
    }
  }

  private async playLeft(stage: Stage, say: (text: string) => void): Promise<void> {
    let kept = (await this.kept())!;
    say(`The demo’s past is played in the background: ${kept.to - kept.from - kept.played} days ...`);
    try {
      const cast = await castOf(stage);
      while (kept.from + kept.played < kept.to && !this.isEnding) {
        await playDay(cast, kept.from + kept.played + 1);
        kept = { ...kept, played: kept.played + 1, error: null };
        await this.keep(kept);
      }
      if (!this.isEnding) say('The demo’s past has been played.');
    } catch (error) {
      if (this.isEnding) return;
      logger.error({ err: error }, 'the past of the demo does not go on');
      await this.keep({ ...kept, error: error instanceof Error ? error.message : String(error) });
    }
  }

  private async kept(): Promise<Kept | undefined> {
    return (await this.settings.findOneBy({ name: PAST }))?.value as Kept | undefined;
  }

  private async keep(kept: Kept): Promise<void> {
    await this.settings.upsert({ name: PAST, value: kept as never }, ['name']);
  }
}
