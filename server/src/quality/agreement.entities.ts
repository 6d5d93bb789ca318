import type { Agreed } from '@ouvrage/api/agreement';
import { Column, Entity, Index, PrimaryGeneratedColumn } from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** That a person agreed to a check or a contract, as its text was then. */
@Entity('agreement')
@Index('agreement_once', ['kind', 'subject', 'person'], { unique: true })
export class AgreementRow {
  @PrimaryGeneratedColumn('identity', { type: 'integer', generatedIdentity: 'ALWAYS' })
  id: number;

  @Column('text')
  kind: Agreed['kind'];

  /** A check's id, or a table. */
  @Column('text')
  subject: string;

  /** Of what the text says; layout and comments are no part of it. */
  @Column('text')
  digest: string;

  /** The name that the person signs in with. */
  @Column('text')
  person: string;

  @Column('text', { nullable: true })
  desk: string | null;

  @MadeAt()
  at: Date;
}
