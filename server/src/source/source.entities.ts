import type { Drift } from '@ouvrage/core/intake';
import type { Wait } from '@ouvrage/core/watch';
import { Column, Entity, PrimaryGeneratedColumn, Unique } from 'typeorm';

/** What is known of a source table between two intakes. */
@Entity('source_state')
@Unique(['environment', 'table'])
export class SourceState {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @Column('text')
  environment: string;

  @Column('text', { name: 'table_name' })
  table: string;

  /** How the declaration and the system differed when they were last compared; null where they did not. */
  @Column('jsonb', { nullable: true })
  drift: Drift | null;

  @Column('timestamptz', { name: 'compared_at', nullable: true })
  comparedAt: Date | null;

  /** The greatest watermark that was brought in, as PostgreSQL writes it. */
  @Column('text', { nullable: true })
  newest: string | null;

  @Column('timestamptz', { name: 'brought_in_at', nullable: true })
  broughtInAt: Date | null;

  /** How long newer rows were waited for, by day, of which is learned when the table is late. Of production alone. */
  @Column('jsonb', { default: [] })
  waits: readonly Wait[];
}
