import type { HarbourDay } from '@ouvrage/api/standin';
import type { OutboxEntry } from '@ouvrage/api/message';
import type { Sent } from '../shared/answers.js';
import { Body, Controller, Get, HttpCode, Module, Post } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { PeopleService } from '../people/people.service.js';
import { Whole } from '../shared/fields.js';
import { notFound } from '../shared/problem.js';
import { TypeOrmModule } from '@nestjs/typeorm';
import { DeliveryModule } from '../delivery/delivery.module.js';
import { Setting } from '../shared/setting.entity.js';
import { MessageModule } from '../message/message.module.js';
import { OutboxRow } from './outbox.entities.js';
import { OutboxService } from './outbox.service.js';
import { HarbourService } from './harbour.service.js';

class AdvanceBody {
  @Whole(1, 90)
  days: number;
}

/** The clock of the stand-in harbour. */
@ApiTags('stand-in')
@Controller('api/harbour')
export class HarbourController {
  constructor(
    private readonly harbour: HarbourService,
    private readonly people: PeopleService,
  ) {}

  /** The day of the demo’s source system; null where there is none. */
  @Get()
  async day(): Promise<Sent<HarbourDay>> {
    return (await this.harbour.day()) ?? { day: null, date: null };
  }

  /** Moves the demo’s source system on by days. */
  @Needs('editor')
  @Post('advance')
  @HttpCode(200)
  async advance(@Me() me: Person, @Body() { days }: AdvanceBody): Promise<Sent<HarbourDay>> {
    const moved = await this.harbour.advance(days);
    if (!moved) throw notFound('The harbour');
    await this.people.audit(me, 'harbour moved on', moved.date);
    return moved;
  }
}

/** What the demo's receivers of messages have got. */
@ApiTags('stand-in')
@Controller('api/outbox')
export class OutboxController {
  constructor(private readonly outbox: OutboxService) {}

  /** Mails and webhook messages, the newest first. */
  @Needs('editor')
  @Get()
  list(): Promise<Sent<readonly OutboxEntry[]>> {
    return this.outbox.list();
  }
}

@Module({
  imports: [TypeOrmModule.forFeature([Setting, OutboxRow]), DeliveryModule, MessageModule, PeopleModule],
  controllers: [HarbourController, OutboxController],
  providers: [HarbourService, OutboxService],
  exports: [HarbourService, OutboxService],
})
export class StandinModule {}
