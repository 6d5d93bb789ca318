import {
  Body,
  Controller,
  Delete,
  Get,
  HttpCode,
  Module,
  Param,
  ParseUUIDPipe,
  Post,
  Put,
  Query,
} from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { TypeOrmModule } from '@nestjs/typeorm';
import type {
  Digest,
  NoticeList,
  Reading,
  Receivers,
  SendingEntry,
  SendingSettings,
  Subscription,
} from '@ouvrage/api/message';
import type { Agreed, Agreement } from '@ouvrage/api/agreement';
import { SEVERITIES, type Severity } from '@ouvrage/core/language';
import { Type } from 'class-transformer';
import {
  ArrayMaxSize,
  IsArray,
  IsEmail,
  IsIn,
  IsInt,
  IsOptional,
  IsString,
  IsTimeZone,
  IsUUID,
  Length,
  Matches,
  Max,
  Min,
  ValidateNested,
} from 'class-validator';
import { IncidentModule } from '../incident/incident.module.js';
import { Me, Needs, NotForTokens } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { AgreementRow } from '../quality/agreement.entities.js';
import type { Sent } from '../shared/answers.js';
import { Names, OptionalOf, Text, TextOrNull } from '../shared/fields.js';
import { notFound } from '../shared/problem.js';
import { Setting } from '../shared/setting.entity.js';
import { SourceModule } from '../source/source.module.js';
import { DeskRow, MailAddress, Message, ReadingRow, Sending } from './message.entities.js';
import { AgreementService } from './agreement.service.js';
import { MessageFollower } from './message-follower.js';
import { MessageService } from './message.service.js';
import { ReceiverService } from './receiver.service.js';
import { Sender } from './sender.js';

class MailOrNull {
  /** Null for nowhere. */
  @IsOptional()
  @IsEmail()
  @Length(3, 200)
  @ApiProperty({ type: String, nullable: true, required: false, maxLength: 200 })
  mail?: string | null;
}

class DeskBody extends MailOrNull {
  @Text(1, 80, 'dues office')
  name: string;

  @Names(200)
  members: string[];

  @TextOrNull(500)
  webhook?: string | null;
}

class ReadBody {
  /** Notices that were read; all of them where the list is empty. */
  @IsArray()
  @ArrayMaxSize(500)
  @IsUUID(undefined, { each: true })
  @ApiProperty({ type: [String], maxItems: 500 })
  ids: string[];
}

class SubscriptionBody {
  @IsIn(['owner', 'tag', 'table', 'all'])
  @ApiProperty({ enum: ['owner', 'tag', 'table', 'all'] })
  kind: Subscription['kind'];

  @IsString()
  @Length(0, 200)
  @ApiProperty({ type: String, maxLength: 200 })
  value: string;

  @IsIn(SEVERITIES)
  @ApiProperty({ enum: SEVERITIES })
  least: Severity;
}

/** Hours and minutes, or null. */
const Clock = (): PropertyDecorator => (target, key) => {
  IsOptional()(target, key);
  Matches(/^([01]\d|2[0-3]):[0-5]\d$/, { message: `${String(key)} must be a time such as 22:00` })(
    target,
    key as string,
  );
  ApiProperty({ type: String, nullable: true, required: false, example: '22:00' })(target, key);
};

class ReadingBody {
  @IsArray()
  @ArrayMaxSize(2)
  @IsIn(['application', 'mail'], { each: true })
  @ApiProperty({ type: [String], enum: ['application', 'mail'] })
  channels: ('application' | 'mail')[];

  @IsIn(SEVERITIES)
  @ApiProperty({ enum: SEVERITIES })
  least: Severity;

  @IsIn(['at once', 'hour', 'day'])
  @ApiProperty({ enum: ['at once', 'hour', 'day'] })
  digest: Digest;

  @Clock()
  quietFrom?: string | null;

  @Clock()
  quietTo?: string | null;

  @IsTimeZone()
  @Length(1, 60)
  @ApiProperty({ type: String, maxLength: 60, example: 'Europe/Paris' })
  zone: string;

  @IsArray()
  @ArrayMaxSize(100)
  @ValidateNested({ each: true })
  @Type(() => SubscriptionBody)
  @ApiProperty({ type: [SubscriptionBody] })
  subscriptions: SubscriptionBody[];
}

class MailServerBody {
  @Text(1, 200, 'mail.example')
  host: string;

  @IsInt()
  @Min(1)
  @Max(65535)
  @ApiProperty({ type: Number, minimum: 1, maximum: 65535 })
  port: number;

  @IsIn(['off', 'starttls', 'tls'])
  @ApiProperty({ enum: ['off', 'starttls', 'tls'] })
  tls: 'off' | 'starttls' | 'tls';

  @IsString()
  @Length(0, 200)
  @ApiProperty({ type: String, maxLength: 200 })
  user: string;

  /** Left out, the password stays what it is. */
  @IsOptional()
  @IsString()
  @Length(0, 500)
  @ApiProperty({ type: String, maxLength: 500, required: false })
  password?: string;

  @Text(3, 200, 'Ouvrage <ouvrage@port.example>')
  from: string;
}

class SendingBody {
  @IsString()
  @Length(0, 300)
  @ApiProperty({ type: String, maxLength: 300, example: 'https://warehouse.example' })
  publicAddress: string;

  /** Null where no mail is sent. */
  @OptionalOf(MailServerBody, { orNull: true })
  mail?: MailServerBody | null;

  @Names(100)
  ranges: string[];
}

class AgreedBody {
  @IsIn(['check', 'contract'])
  @ApiProperty({ enum: ['check', 'contract'] })
  kind: Agreed['kind'];

  /** A check's id, or a table. */
  @Text(1, 300, 'core.fact_call/fact_call_pkey')
  subject: string;
}

class AgreeBody extends AgreedBody {
  /** A desk of the person's, for which they agree. */
  @TextOrNull(80)
  desk?: string | null;
}

class LogQuery {
  @IsOptional()
  @IsIn(['waiting', 'sent', 'given up'])
  @ApiProperty({ enum: ['waiting', 'sent', 'given up'], required: false })
  state?: SendingEntry['state'];
}

@ApiTags('messages')
@Controller('api')
export class MessageController {
  constructor(
    private readonly messages: MessageService,
    private readonly receivers: ReceiverService,
  ) {}

  /** What the person was told, the newest first. */
  @NotForTokens()
  @Get('messages')
  notices(@Me() me: Person): Promise<Sent<NoticeList>> {
    return this.messages.notices(me);
  }

  /** Marks notices as read. */
  @Post('messages/read')
  @HttpCode(204)
  read(@Me() me: Person, @Body() { ids }: ReadBody): Promise<void> {
    return this.messages.read(me, ids);
  }

  /** How the person is told. */
  @NotForTokens()
  @Get('reading')
  reading(@Me() me: Person): Promise<Sent<Reading>> {
    return this.receivers.reading(me);
  }

  /** Changes how the person is told. */
  @Put('reading')
  @HttpCode(204)
  saveReading(@Me() me: Person, @Body() { quietFrom, quietTo, ...asked }: ReadingBody): Promise<void> {
    return this.receivers.saveReading(me, { ...asked, quietFrom: quietFrom ?? null, quietTo: quietTo ?? null });
  }

  /** Desks and people who can be told; addresses are shown to administrators alone. */
  @NotForTokens()
  @Get('receivers')
  all(@Me() me: Person): Promise<Sent<Receivers>> {
    return this.receivers.receivers(me);
  }

  /** Makes a desk; the secret that signs its webhook is told this once. */
  @Needs('administrator')
  @Post('desks')
  make(@Me() me: Person, @Body() body: DeskBody): Promise<Sent<{ id: string; secret: string | null }>> {
    return this.receivers.saveDesk(me, undefined, deskOf(body));
  }

  /** Changes a desk. */
  @Needs('administrator')
  @Put('desks/:id')
  change(
    @Me() me: Person,
    @Param('id', ParseUUIDPipe) id: string,
    @Body() body: DeskBody,
  ): Promise<Sent<{ id: string; secret: string | null }>> {
    return this.receivers.saveDesk(me, id, deskOf(body));
  }

  /** Deletes a desk. */
  @Needs('administrator')
  @Delete('desks/:id')
  @HttpCode(204)
  delete(@Me() me: Person, @Param('id', ParseUUIDPipe) id: string): Promise<void> {
    return this.receivers.deleteDesk(me, id);
  }

  /** Says where mail of a person goes. */
  @Needs('administrator')
  @Put('people/:name/mail')
  @HttpCode(204)
  mail(@Me() me: Person, @Param('name') name: string, @Body() { mail }: MailOrNull): Promise<void> {
    return this.receivers.saveMail(me, name, mail ?? null);
  }

  /** How messages leave. */
  @Needs('administrator')
  @NotForTokens()
  @Get('sending')
  sending(): Promise<Sent<SendingSettings>> {
    return this.receivers.sendingSettings();
  }

  /** Changes how messages leave. */
  @Needs('administrator')
  @Put('sending')
  @HttpCode(204)
  saveSending(@Me() me: Person, @Body() { publicAddress, mail, ranges }: SendingBody): Promise<void> {
    return this.receivers.saveSending(me, { publicAddress, mail: mail ?? null, ranges });
  }

  /** Messages on their way, sent, or given up. */
  @Needs('administrator')
  @NotForTokens()
  @Get('sendings')
  log(@Query() { state }: LogQuery): Promise<Sent<readonly SendingEntry[]>> {
    return this.messages.log(state);
  }

  /** Tries again what was given up. */
  @Needs('administrator')
  @Post('sendings/:id/again')
  @HttpCode(204)
  async again(@Param('id', ParseUUIDPipe) id: string): Promise<void> {
    if (!(await this.messages.again(id))) throw notFound('A message that was given up');
  }
}

/** What people have agreed to. */
@ApiTags('agreements')
@Controller('api/workspaces/:slug/agreements')
export class AgreementController {
  constructor(private readonly agreements: AgreementService) {}

  /** Agreements, with whether they hold for the texts as they are here. */
  @Get()
  list(@Param('slug') slug: string): Promise<Sent<readonly Agreement[]>> {
    return this.agreements.list(slug);
  }

  /** The person agrees to a text as it is here. */
  @Post()
  @HttpCode(204)
  agree(@Me() me: Person, @Param('slug') slug: string, @Body() { desk, ...agreed }: AgreeBody): Promise<void> {
    return this.agreements.agree(me, slug, { ...agreed, desk: desk || null });
  }

  /** The person takes back what they have agreed to. */
  @Post('withdraw')
  @HttpCode(204)
  withdraw(@Me() me: Person, @Param('slug') slug: string, @Body() agreed: AgreedBody): Promise<void> {
    return this.agreements.withdraw(me, slug, agreed);
  }
}

const deskOf = ({ name, members, mail, webhook }: DeskBody) => ({
  name,
  members,
  mail: mail ?? null,
  webhook: webhook || null,
});

@Module({
  imports: [
    TypeOrmModule.forFeature([DeskRow, ReadingRow, MailAddress, Message, Sending, Setting, AgreementRow]),
    IncidentModule,
    PeopleModule,
    ProjectModule,
    SourceModule,
  ],
  controllers: [MessageController, AgreementController],
  providers: [MessageService, MessageFollower, ReceiverService, Sender, AgreementService],
  exports: [MessageService, ReceiverService],
})
export class MessageModule {}
