import { Column, Entity, PrimaryColumn } from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** What the stand-in for receivers has got, once each. */
@Entity('outbox_entry')
export class OutboxRow {
  /** The id that the sender gave it. */
  @PrimaryColumn('text')
  id: string;

  @Column('text')
  channel: 'mail' | 'webhook';

  @Column('text', { name: 'to_address' })
  to: string;

  @Column('text')
  subject: string;

  @Column('text')
  body: string;

  @Column('integer', { default: 0 })
  repeats: number;

  @MadeAt()
  at: Date;
}
