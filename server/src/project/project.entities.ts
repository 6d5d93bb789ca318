import {
  Column,
  Entity,
  JoinColumn,
  ManyToOne,
  PrimaryColumn,
  PrimaryGeneratedColumn,
  Unique,
  type Relation,
} from 'typeorm';
import { Person } from '../people/people.entities.js';
import { MadeAt } from '../shared/time.js';

/** One person's line of work: a branch, the drafts on it, its schemas. */
@Entity('workspace')
export class Workspace {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  /** Stands in addresses and names the branch: `workspace/berth-dues`. */
  @Column('text', { unique: true })
  slug: string;

  @Column('text')
  name: string;

  /** The prefix of its schemas, `w_berth_dues`. */
  @Column('text', { unique: true })
  prefix: string;

  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'owner_id' })
  owner: Relation<Person>;

  /** The ids of those who edit it, too. */
  @Column('uuid', { name: 'shared_with', array: true, default: [] })
  sharedWith: string[];

  /** Whether everybody edits it who edits at all. */
  @Column('boolean', { name: 'shared_with_all', default: false })
  sharedWithAll: boolean;

  /** A way back: the releases that releasing it withdraws, the first one first. */
  @Column('integer', { array: true, default: [] })
  withdraws: number[];

  /** A way back by the copies that releases have kept, rather than by their definitions over today's rows. */
  @Column('boolean', { default: false })
  restores: boolean;

  @MadeAt('created_at')
  createdAt: Date;

  @Column('timestamptz', { name: 'closed_at', nullable: true })
  closedAt: Date | null;
}

/** An edited file that is not committed yet. */
@Entity('draft')
@Unique(['workspace', 'path'])
export class Draft {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @ManyToOne(() => Workspace, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'workspace_id' })
  workspace: Relation<Workspace>;

  @Column('text')
  path: string;

  /** Null: the file is deleted. */
  @Column('text', { nullable: true })
  text: string | null;

  /** The committed blob that the draft was begun from; null for a new file. */
  @Column('text', { name: 'base_blob', nullable: true })
  baseBlob: string | null;

  /** Counts the times it was kept; who keeps it must know the newest. */
  @Column('integer')
  version: number;

  /** Who began it: whose it is. */
  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  /** Who saved it last. */
  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'saved_by_id' })
  savedBy: Relation<Person>;

  /** The ids of all who saved it. */
  @Column('uuid', { array: true })
  authors: string[];

  @MadeAt('updated_at')
  updatedAt: Date;
}

/** Who wrote a file of a commit: all who had saved the draft that it was made from. Of a pushed commit who pushed it, with no path. */
@Entity('commit_author')
export class CommitAuthor {
  @PrimaryColumn('text')
  commit: string;

  @PrimaryColumn('text')
  path: string;

  @PrimaryColumn('uuid', { name: 'person_id' })
  personId: string;
}

/** Who saved or pushed anything to a workspace's branch, and when last: a branch may be pushed again with other commits. */
@Entity('branch_writer')
export class BranchWriter {
  @PrimaryColumn('uuid', { name: 'workspace_id' })
  workspaceId: string;

  @PrimaryColumn('uuid', { name: 'person_id' })
  personId: string;

  @Column('timestamptz')
  at: Date;
}

/** A push that is under way, or whose server was killed in it: written down before git takes it, and kept until who wrote its commits is. */
@Entity('push')
export class Push {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @Column('uuid', { name: 'person_id' })
  personId: string;

  /** Commits by branch as they were before. */
  @Column('jsonb')
  branches: Readonly<Record<string, string>>;

  @MadeAt('at')
  at: Date;
}
