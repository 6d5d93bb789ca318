import type { RemarkPlace, ReviewWord } from '@ouvrage/api/review';
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
import { Person } from '../people/people.entities.js';
import { Workspace } from '../project/project.entities.js';
import { MadeAt } from '../shared/time.js';

/** What somebody says of a workspace's diff. */
@Entity('review_verdict')
export class VerdictRow {
  @PrimaryColumn('uuid', { name: 'workspace_id' })
  workspaceId: string;

  @PrimaryColumn('uuid', { name: 'person_id' })
  personId: string;

  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  @Column('text', { name: 'verdict' })
  word: ReviewWord;

  @Column('text')
  text: string;

  /** The digest of the files before and after. */
  @Column('text')
  diff: string;

  /** Production's commit at that time. */
  @Column('text')
  main: string;

  @Column('timestamptz')
  at: Date;
}

/** Somebody asks for the review of a workspace. */
@Entity('review_request')
export class RequestRow {
  @PrimaryColumn('uuid', { name: 'workspace_id' })
  workspaceId: string;

  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  @Column('timestamptz')
  at: Date;
}

/** A remark of a review, or an answer to one. */
@Entity('remark')
export class RemarkRow {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Index('remark_of')
  @ManyToOne(() => Workspace, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'workspace_id' })
  workspace: Relation<Workspace>;

  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  /** The remark that this one answers. */
  @Column('integer', { nullable: true })
  answers: number | null;

  @Column('jsonb')
  place: RemarkPlace;

  @Column('text')
  text: string;

  @MadeAt()
  at: Date;

  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: true })
  @JoinColumn({ name: 'resolved_by_id' })
  resolvedBy: Relation<Person> | null;

  @Column('timestamptz', { name: 'resolved_at', nullable: true })
  resolvedAt: Date | null;
}
