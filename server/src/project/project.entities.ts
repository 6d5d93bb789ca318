import { Column, CreateDateColumn, Entity, JoinColumn, ManyToOne, PrimaryGeneratedColumn, Unique, UpdateDateColumn, type Relation } from 'typeorm';
import { Person } from '../people/people.entities.js';

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

  @CreateDateColumn({ name: 'created_at', type: 'timestamptz' })
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

  @ManyToOne(() => Person, { onDelete: 'RESTRICT', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  @UpdateDateColumn({ name: 'updated_at', type: 'timestamptz' })
  updatedAt: Date;
}
