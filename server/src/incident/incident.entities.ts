import type { IncidentEvent as EventOut, IncidentState, IncidentSubject as SubjectOut } from '@ouvrage/api/incident';
import type { Verdict } from '@ouvrage/core/check';
import type { Severity } from '@ouvrage/core/language';
import {
  Column,
  Entity,
  Index,
  JoinColumn,
  ManyToOne,
  OneToMany,
  PrimaryGeneratedColumn,
  type Relation,
} from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** Something that went wrong in production, followed by one person to its end. */
@Entity('incident')
export class Incident {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text')
  title: string;

  @Column('text')
  description: string;

  @Column('text')
  state: IncidentState;

  @Column('text')
  severity: Severity;

  /** The name that the person signs in with. */
  @Column('text', { nullable: true })
  lead: string | null;

  @Column('text', { name: 'opened_by', nullable: true })
  openedBy: string | null;

  /** The first failure that is kept. */
  @Column('timestamptz')
  since: Date;

  @Index('incident_opened_at')
  @MadeAt('opened_at')
  openedAt: Date;

  @Column('timestamptz', { name: 'closed_at', nullable: true })
  closedAt: Date | null;

  @Column('text', { nullable: true })
  learned: string | null;

  @Column('text', { name: 'closed_though', nullable: true })
  closedThough: string | null;

  @Column('integer', { default: 0 })
  reopened: number;

  @OneToMany(() => IncidentSubject, (s) => s.incident)
  subjects: Relation<IncidentSubject[]>;
}

/** A check, a table's load or a source that an incident is about. While it is not closed, no other one is. */
@Entity('incident_subject')
@Index('incident_subject_open', ['kind', 'subject'], { unique: true, where: 'is_open' })
export class IncidentSubject {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Index('incident_subject_of')
  @ManyToOne(() => Incident, (i) => i.subjects, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'incident_id' })
  incident: Relation<Incident>;

  @Column('text')
  kind: SubjectOut['kind'];

  @Column('text')
  subject: string;

  @Column('text', { name: 'table_name' })
  table: string;

  @Column('boolean', { name: 'is_open' })
  isOpen: boolean;
}

/** What happened in an incident. */
@Entity('incident_event')
export class IncidentEvent {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Index('incident_event_of')
  @ManyToOne(() => Incident, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'incident_id' })
  incident: Relation<Incident>;

  @MadeAt()
  at: Date;

  @Column('text')
  kind: EventOut['kind'];

  @Column('text', { nullable: true })
  person: string | null;

  @Column('text', { nullable: true })
  text: string | null;

  @Column('integer', { name: 'run_id', nullable: true })
  run: number | null;

  @Column('text', { nullable: true })
  verdict: Verdict | null;

  @Column('bigint', { name: 'at_fault', nullable: true })
  atFault: string | null;

  @Column('bigint', { nullable: true })
  total: string | null;

  @Column('text', { nullable: true })
  subject: string | null;
}
