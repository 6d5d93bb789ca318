import type { WatchVerdict } from '@ouvrage/api/watch';
import { Column, Entity, Index, PrimaryGeneratedColumn } from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** What was judged of one measure. */
export interface JudgedMeasure {
  readonly verdict: WatchVerdict;
  readonly least?: number;
  readonly greatest?: number;
  readonly by?: string;
  readonly from?: number;
}

/** The measures of one table after one load in production. */
@Entity('measurement')
@Index('measurement_of', ['table', 'id'])
@Index('measurement_once', ['run', 'table'], { unique: true })
export class Measurement {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text', { name: 'table_name' })
  table: string;

  @Column('integer', { name: 'run_id' })
  run: number;

  @Column('timestamptz')
  at: Date;

  @Column('boolean', { name: 'is_sampled' })
  isSampled: boolean;

  @Column('jsonb')
  values: Readonly<Record<string, number>>;

  @Column('jsonb')
  judged: Readonly<Record<string, JudgedMeasure>>;

  /** The measure that is told of. */
  @Column('text', { nullable: true })
  finding: string | null;
}

/** What a watch was taught: values are normal from then on, or nothing is told until a day. */
@Entity('watch_lesson')
@Index('watch_lesson_of', ['table'])
export class WatchLesson {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text', { name: 'table_name' })
  table: string;

  /** Null for all measures of the table. */
  @Column('text', { nullable: true })
  measure: string | null;

  /** `normal`: the newest value is what to expect. `restart`: nothing before counts. `ignore`: nothing is told until then. */
  @Column('text')
  kind: 'normal' | 'restart' | 'ignore';

  @Column('timestamptz', { nullable: true })
  until: Date | null;

  @Column('text')
  person: string;

  @MadeAt()
  at: Date;
}
