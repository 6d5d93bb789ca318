import type { JobCause, JobStartState } from '@ouvrage/api/job';
import { Column, Entity, Index, PrimaryColumn, PrimaryGeneratedColumn } from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** What is kept of a job beside its starts. */
@Entity('job_state')
export class JobState {
  @PrimaryColumn('text')
  job: string;

  /** Until when it has been looked what the clock starts. */
  @Column('timestamptz', { name: 'looked_until' })
  lookedUntil: Date;

  /** The last delivery that has been looked at. */
  @Column('integer', { name: 'looked_delivery' })
  lookedDelivery: number;

  @Column('text', { name: 'paused_by', nullable: true })
  pausedBy: string | null;

  @Column('timestamptz', { name: 'paused_at', nullable: true })
  pausedAt: Date | null;
}

/** One reason to run a job, and what became of it. */
@Entity('job_start')
@Index('job_start_once', ['job', 'cause', 'of'], { unique: true })
@Index('job_start_of_job', ['job', 'id'])
@Index('job_start_open', { synchronize: false })
export class JobStart {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text')
  job: string;

  @Column('text')
  cause: JobCause;

  /** What tells it from others of its cause: the instant, the run or the delivery. */
  @Column('text')
  of: string;

  @Column('timestamptz', { name: 'scheduled_at' })
  scheduledAt: Date;

  /** It is not begun before: a retry waits. */
  @Column('timestamptz', { name: 'due_at' })
  dueAt: Date;

  @Column('text')
  state: JobStartState;

  /** Why it did not run, in words. */
  @Column('text', { nullable: true })
  reason: string | null;

  /** From 1; more of a retry. */
  @Column('integer', { default: 1 })
  attempt: number;

  /** Who started it; null where nobody did. */
  @Column('text', { nullable: true })
  person: string | null;

  @Column('integer', { name: 'run_id', nullable: true })
  runId: number | null;

  @MadeAt()
  at: Date;
}
