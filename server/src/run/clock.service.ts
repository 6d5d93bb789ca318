import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { dateOf } from '@ouvrage/demo';
import { Repository } from 'typeorm';
import { Setting } from '../source/source.entities.js';

/** The stand-in's clock, where there is one. */
export const HARBOUR_DAY = 'harbour day';

/** What time it is for lateness and for loads. */
@Injectable()
export class ClockService {
  constructor(@InjectRepository(Setting) private readonly settings: Repository<Setting>) {}

  /** The end of the harbour's day in the demo, as its rows are of that time; undefined where the real time counts. */
  async harbour(): Promise<Date | undefined> {
    const day = (await this.settings.findOneBy({ name: HARBOUR_DAY }))?.value as number | undefined;
    return day === undefined ? undefined : new Date(`${dateOf(day + 1)}T00:00:00Z`);
  }
}
