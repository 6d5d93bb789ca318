import type { FaultRows } from '@ouvrage/api/rows';
import type { ReleasedReview } from '@ouvrage/api/review';
import type { RanStatement, RunKind, RunState, StepError, StepState } from '@ouvrage/api/run';
import type { Verdict } from '@ouvrage/core/check';
import type { Treatment } from '@ouvrage/core/review';
import { Column, Entity, Index, JoinColumn, ManyToOne, PrimaryGeneratedColumn, type Relation } from 'typeorm';
import type { Sent } from '../shared/answers.js';
import { MadeAt } from '../shared/time.js';

export interface RunRequest {
  readonly tables: readonly string[];
  readonly upstream: boolean;
  readonly downstream: boolean;
  readonly parallelism: number;
  readonly parameters: Readonly<Record<string, string>>;
  /** Drafts as they were when the run was asked for; null deletes. */
  readonly drafts: Readonly<Record<string, string | null>>;
  /** An intake for a trial: at most so many rows of each table. */
  readonly limit?: number;
  /** Tables that begin with nothing of what they held: their rows, versions and events; numbers of keys stay. */
  readonly startOver?: readonly string[];
  /** A run of checks alone: their ids, all of the tables' where there are none. */
  readonly checks?: readonly string[];
  /** A release: the workspace that it comes from and its message. */
  readonly release?: {
    readonly workspace: string;
    readonly message: string;
    readonly treatments?: Readonly<Record<string, Treatment>>;
    readonly review?: Sent<ReleasedReview>;
    readonly withdraws?: readonly number[];
    /** Goes back by kept copies: the tables of which one is put back, and who asks, by whom they are loaded after it. */
    readonly restores?: { readonly tables: readonly string[]; readonly by: string };
  };
}

/** One execution over a set of tables in one environment. */
@Entity('run')
export class Run {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text')
  kind: RunKind;

  /** `production`, or a workspace's slug. */
  @Index()
  @Column('text')
  environment: string;

  @Column('text')
  commit: string;

  @Column('text')
  state: RunState;

  @Column('text')
  person: string;

  @Column('jsonb')
  request: RunRequest;

  @Column('text', { nullable: true })
  error: string | null;

  /** The run that this one goes on with. */
  @Column('integer', { name: 'continues', nullable: true })
  continues: number | null;

  /** The job that it is of; null of what a person asked for. */
  @Column('text', { nullable: true })
  job: string | null;

  @Index('run_job_start', { where: '"job_start" IS NOT NULL' })
  @Column('integer', { name: 'job_start', nullable: true })
  jobStart: number | null;

  @Column('boolean', { name: 'stop_asked', default: false })
  stopAsked: boolean;

  /** Whether what follows its end has been done. */
  @Index('run_not_followed', { where: 'NOT "followed"' })
  @Column('boolean', { default: false })
  followed: boolean;

  @MadeAt('created_at')
  createdAt: Date;

  @Column('timestamptz', { name: 'started_at', nullable: true })
  startedAt: Date | null;

  @Column('timestamptz', { name: 'finished_at', nullable: true })
  finishedAt: Date | null;
}

/** One table's load and checks in a run, its checks alone, or one file of checks/. */
@Entity('run_step')
@Index(['table', 'finishedAt'])
export class RunStep {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Index()
  @ManyToOne(() => Run, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'run_id' })
  run: Relation<Run>;

  @Column('text')
  kind: 'load' | 'check' | 'intake';

  /** The table, or `checks/name`. */
  @Column('text', { name: 'table_name' })
  table: string;

  @Column('integer')
  position: number;

  @Column('text')
  state: StepState;

  @Column('jsonb', { name: 'waits_for' })
  waitsFor: readonly string[];

  @Column('bigint', { name: 'rows_out', nullable: true })
  rowsOut: string | null;

  @Column('bigint', { name: 'rows_in', nullable: true })
  rowsIn: string | null;

  /** What the load did: rows by kind. */
  @Column('jsonb', { nullable: true })
  counts: Readonly<Record<string, number>> | null;

  /** Some rows of each kind that was counted. */
  @Column({ type: 'jsonb', nullable: true, select: false })
  kinds: Readonly<Record<string, FaultRows>> | null;

  /** Why the load changed its table in place, or wrote it again. */
  @Column({ type: 'text', nullable: true })
  note: string | null;

  @Column({ type: 'jsonb', default: [], select: false })
  statements: readonly RanStatement[];

  @Column('jsonb', { nullable: true })
  error: StepError | null;

  @Column('timestamptz', { name: 'started_at', nullable: true })
  startedAt: Date | null;

  @Column('timestamptz', { name: 'finished_at', nullable: true })
  finishedAt: Date | null;
}

@Entity('check_result')
@Index(['environment', 'checkId', 'at'])
@Index('check_result_at', ['environment', 'at'])
export class CheckResult {
  @PrimaryGeneratedColumn('identity', { type: 'bigint', generatedIdentity: 'ALWAYS' })
  id: string;

  @Index()
  @ManyToOne(() => RunStep, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'step_id' })
  step: Relation<RunStep>;

  @Column('text')
  environment: string;

  @Column('text', { name: 'check_id' })
  checkId: string;

  /** The table that the check is about. */
  @Column('text', { name: 'table_name' })
  table: string;

  @Column('text')
  verdict: Verdict;

  /** Rows at fault. */
  @Column('bigint', { name: 'at_fault', nullable: true })
  atFault: string | null;

  @Column('bigint', { nullable: true })
  total: string | null;

  @Column('text')
  sql: string;

  @Column('jsonb', { nullable: true })
  rows: FaultRows | null;

  /** A hash of what the check said: a verdict is of this text. Null of verdicts from before it was kept. */
  @Column('text', { nullable: true })
  says: string | null;

  @MadeAt()
  at: Date;
}

/** A commit put into production. */
@Entity('release')
export class Release {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text')
  commit: string;

  @Column('text', { name: 'commit_before', nullable: true })
  commitBefore: string | null;

  @Column('text')
  workspace: string;

  @Column('text')
  message: string;

  @Column('text')
  person: string;

  /** Tables that were rebuilt, and those that were dropped. */
  @Column('jsonb')
  tables: readonly string[];

  @Column('integer', { name: 'run_id' })
  runId: number;

  /** A way back: the releases that it withdraws, the first one first. */
  @Column('integer', { array: true, default: [] })
  withdraws: number[];

  /** Of its review: authors, verdicts, consents; null of releases before there were reviews. */
  @Column('jsonb', { nullable: true })
  review: Sent<ReleasedReview> | null;

  @MadeAt()
  at: Date;
}
