import { Column, Entity, Index, PrimaryGeneratedColumn } from 'typeorm';
import { MadeAt } from '../shared/time.js';

export const DELIVERY_STATES = ['loaded', 'empty', 'repeated', 'failed', 'unknown'] as const;
export type DeliveryState = (typeof DELIVERY_STATES)[number];

/** One file that came into the drop folder, and what became of it. */
@Entity('delivery')
@Index(['table', 'digest'])
export class Delivery {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text')
  file: string;

  /** Null for a file that no pattern takes. */
  @Column('text', { name: 'table_name', nullable: true })
  table: string | null;

  /** Of the file's content and of what its name gives. */
  @Column('text')
  digest: string;

  @Column('text')
  state: DeliveryState;

  @Column('bigint')
  bytes: string;

  @Column('bigint', { nullable: true })
  rows: string | null;

  /** Rows that were set aside. */
  @Column('bigint', { nullable: true })
  rejects: string | null;

  /** Where it was put away, from the drop folder; null for files that came before that was kept. */
  @Column('text', { nullable: true })
  kept: string | null;

  /** Why it failed, or what of it was left out, in words. */
  @Column('text', { nullable: true })
  reason: string | null;

  @MadeAt()
  at: Date;

  @Column('integer', { nullable: true })
  milliseconds: number | null;
}
