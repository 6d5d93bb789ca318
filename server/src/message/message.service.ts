import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { NoticeList, SendingEntry } from '@ouvrage/api/message';
import type { Project } from '@ouvrage/core/model';
import { type EntityManager, In, IsNull, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import type { Sent } from '../shared/answers.js';
import { dueAt } from './due.js';
import { DeskRow, Message, Sending } from './message.entities.js';
import { ReceiverService } from './receiver.service.js';
import { recipientsOf } from './recipients.js';
import { currentTime } from '../shared/time.js';

/** Notices that a person is shown. */
const SHOWN = 200;

/** Something to tell, in words: counts, and never rows. */
export type Telling = Pick<Message, 'key' | 'kind' | 'severity' | 'title' | 'lines' | 'path'> & {
  /** What it is about: their owners, and those of what reads them, are told. */
  readonly tables: readonly string[];
};

/** Messages and who they are for; the sender takes them from there. */
@Injectable()
export class MessageService {
  constructor(
    @InjectRepository(Message) private readonly messages: Repository<Message>,
    @InjectRepository(Sending) private readonly sendings: Repository<Sending>,
    private readonly receivers: ReceiverService,
  ) {}

  /** Stores a message with its receivers, in the transaction of what it tells; once for each key. */
  async tell(manager: EntityManager, project: Project, { tables, ...message }: Telling): Promise<void> {
    const made = await manager
      .createQueryBuilder()
      .insert()
      .into(Message)
      .values(message)
      .orIgnore()
      .returning('id')
      .execute();
    const [row] = made.raw as { id: string }[];
    if (!row) return;
    const recipients = recipientsOf(
      project,
      { tables, severity: message.severity },
      await this.receivers.known(manager),
    );
    const now = currentTime();
    if (recipients.length === 0) return;
    await manager.insert(
      Sending,
      recipients.map(({ channel, receiver, reading }) => ({
        message: { id: row.id },
        channel,
        receiver,
        // In the application a message is there at once.
        state: channel === 'application' ? ('sent' as const) : ('waiting' as const),
        due: channel === 'mail' && reading ? dueAt(now, reading, message.severity) : now,
        sentAt: channel === 'application' ? now : null,
      })),
    );
  }

  /** What a person was told in the application, the newest first. */
  async notices({ name }: Person): Promise<Sent<NoticeList>> {
    const own = { channel: 'application' as const, receiver: `person:${name}` };
    const [found, unread] = await Promise.all([
      this.sendings.find({ where: own, relations: { message: true }, order: { message: { at: 'DESC' } }, take: SHOWN }),
      this.sendings.countBy({ ...own, readAt: IsNull() }),
    ]);
    return {
      unread,
      notices: found.map(({ id, readAt, message: { kind, severity, title, lines, path, at } }) => ({
        id,
        kind,
        severity,
        title,
        lines,
        path,
        at,
        readAt,
      })),
    };
  }

  /** Marks notices of a person as read; all of them where none is named. */
  async read({ name }: Person, ids: readonly string[]): Promise<void> {
    const own = { channel: 'application' as const, receiver: `person:${name}`, readAt: IsNull() };
    await this.sendings.update({ ...own, ...(ids.length ? { id: In([...ids]) } : {}) }, { readAt: currentTime() });
  }

  /** Messages on their way, and those that were sent or given up lately; for administrators. */
  async log(state: SendingEntry['state'] | undefined): Promise<Sent<readonly SendingEntry[]>> {
    const found = await this.sendings.find({
      where: { channel: In(['mail', 'webhook']), ...(state === undefined ? {} : { state }) },
      relations: { message: true },
      order: { due: 'DESC' },
      take: SHOWN,
    });
    const desks = new Map((await this.messages.manager.find(DeskRow)).map((d) => [`desk:${d.id}`, d.name]));
    return found.map((s) => ({
      id: s.id,
      channel: s.channel,
      to: desks.get(s.receiver) ?? s.receiver.replace(/^person:/, ''),
      title: s.message.title,
      state: s.state,
      attempts: s.attempts,
      error: s.error,
      at: s.message.at,
      sentAt: s.sentAt,
    }));
  }

  /** Tries again what was given up. @returns whether there was such a thing */
  async again(id: string): Promise<boolean> {
    const changed = await this.sendings.update(
      { id, state: 'given up' },
      { state: 'waiting', due: currentTime(), attempts: 0 },
    );
    return (changed.affected ?? 0) > 0;
  }
}
