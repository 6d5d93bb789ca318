import type { HarbourDay } from '@ouvrage/api/standin';
import type { OutboxEntry } from '@ouvrage/api/message';
import type { Sent } from '../shared/answers.js';
import { Body, Controller, Get, HttpCode, Module, Post, Put } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { Me, Needs, NotForTokens } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { PeopleService } from '../people/people.service.js';
import { IsISO8601 } from 'class-validator';
import { ClockService } from '../run/clock.service.js';
import { RunModule } from '../run/run.module.js';
import { Text, Whole } from '../shared/fields.js';
import { currentTime } from '../shared/time.js';
import { notFound } from '../shared/problem.js';
import { TypeOrmModule } from '@nestjs/typeorm';
import { DeliveryModule } from '../delivery/delivery.module.js';
import { Setting } from '../shared/setting.entity.js';
import { MessageModule } from '../message/message.module.js';
import { OutboxRow } from './outbox.entities.js';
import { OutboxService } from './outbox.service.js';
import { HarbourService } from './harbour.service.js';
import { PastService } from './past.service.js';

class AdvanceBody {
  @Whole(1, 90)
  days: number;
}

class ClockBody {
  @IsISO8601({ strict: true })
  @Text(10, 40, '2026-02-14T08:15:00.000Z')
  time: string;
}

/** The clock of the stand-in harbour. */
@ApiTags('stand-in')
@Controller('api/harbour')
export class HarbourController {
  constructor(
    private readonly harbour: HarbourService,
    private readonly clock: ClockService,
    private readonly past: PastService,
    private readonly people: PeopleService,
  ) {}

  /** The day of the demo’s source system, and its clock; null where there is none. */
  @Get()
  async day(): Promise<Sent<HarbourDay>> {
    const time = (await this.clock.isSet()) ? currentTime().toISOString() : null;
    return { day: null, date: null, ...(await this.harbour.day()), time, past: await this.past.progress() };
  }

  /** Sets the demo’s clock forward within a day of the harbour. */
  @Needs('editor')
  @Put('clock')
  @HttpCode(204)
  async setClock(@Me() me: Person, @Body() { time }: ClockBody): Promise<void> {
    await this.harbour.setClock(new Date(time));
    await this.people.audit(me, 'clock set', time);
  }

  /** Moves the demo’s source system on by days. */
  @Needs('editor')
  @Post('advance')
  @HttpCode(200)
  async advance(@Me() me: Person, @Body() { days }: AdvanceBody): Promise<Sent<HarbourDay>> {
    const moved = await this.harbour.advance(days);
    if (!moved) throw notFound('The harbour');
    await this.people.audit(me, 'harbour moved on', moved.date);
    return this.day();
  }
}

/** What the demo's receivers of messages have got. */
@ApiTags('stand-in')
@Controller('api/outbox')
export class OutboxController {
  constructor(private readonly outbox: OutboxService) {}

  /** Mails and webhook messages, the newest first. */
  @NotForTokens()
  @Needs('editor')
  @Get()
  list(): Promise<Sent<readonly OutboxEntry[]>> {
    return this.outbox.list();
  }
}

@Module({
  imports: [TypeOrmModule.forFeature([Setting, OutboxRow]), DeliveryModule, MessageModule, PeopleModule, RunModule],
  controllers: [HarbourController, OutboxController],
  providers: [HarbourService, OutboxService, PastService],
  exports: [HarbourService, OutboxService, PastService],
})
export class StandinModule {}
