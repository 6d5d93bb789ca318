import type { Channel, Digest, MessageKind, Subscription } from '@ouvrage/api/message';
import type { Severity } from '@ouvrage/core/language';
import {
  Column,
  Entity,
  Index,
  JoinColumn,
  ManyToOne,
  PrimaryColumn,
  PrimaryGeneratedColumn,
  type Relation,
} from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** A team that owns tables. */
@Entity('desk')
export class DeskRow {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @Column('text', { unique: true })
  name: string;

  /** Names that people sign in with. */
  @Column('text', { array: true })
  members: string[];

  @Column('text', { nullable: true })
  mail: string | null;

  @Column('text', { nullable: true })
  webhook: string | null;

  /** What signs the webhook's messages, sealed. */
  @Column('text', { nullable: true })
  secret: string | null;
}

/** How a person is told; who has none is told at once, in the application and by mail. */
@Entity('reading')
export class ReadingRow {
  @PrimaryColumn('text')
  person: string;

  @Column('text', { array: true })
  channels: ('application' | 'mail')[];

  @Column('text')
  least: Severity;

  @Column('text')
  digest: Digest;

  @Column('text', { name: 'quiet_from', nullable: true })
  quietFrom: string | null;

  @Column('text', { name: 'quiet_to', nullable: true })
  quietTo: string | null;

  @Column('text')
  zone: string;

  @Column('jsonb')
  subscriptions: readonly Subscription[];
}

/** Where mail of a person goes. */
@Entity('mail_address')
export class MailAddress {
  @PrimaryColumn('text')
  person: string;

  @Column('text')
  address: string;
}

/** Something that is told once, whoever it is told to. */
@Entity('message')
export class Message {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  /** What it is told of: one message each. */
  @Column('text', { unique: true })
  key: string;

  @Column('text')
  kind: MessageKind;

  @Column('text')
  severity: Severity;

  @Column('text')
  title: string;

  @Column('text', { array: true })
  lines: string[];

  @Column('text')
  path: string;

  @MadeAt()
  at: Date;
}

/** A message on its way to one receiver. Its id, or that of its bundle, is what receivers tell repetitions by. */
@Entity('sending')
@Index('sending_due', ['state', 'due'])
@Index('sending_once', ['message', 'channel', 'receiver'], { unique: true })
export class Sending {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @ManyToOne(() => Message, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'message_id' })
  message: Relation<Message>;

  @Column('text')
  channel: Channel;

  /** `person:mira` or `desk:<id>`. */
  @Column('text')
  receiver: string;

  @Column('text')
  state: 'waiting' | 'sent' | 'given up';

  @Column('integer', { default: 0 })
  attempts: number;

  @Column('timestamptz')
  due: Date;

  /** Sent together with others of the same bundle, also when that is tried again. */
  @Column('uuid', { nullable: true })
  bundle: string | null;

  @Column('text', { nullable: true })
  error: string | null;

  @Column('timestamptz', { name: 'sent_at', nullable: true })
  sentAt: Date | null;

  /** Of a message in the application. */
  @Column('timestamptz', { name: 'read_at', nullable: true })
  readAt: Date | null;
}
