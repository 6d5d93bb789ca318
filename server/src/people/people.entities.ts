import {
  Column,
  CreateDateColumn,
  Entity,
  Index,
  JoinColumn,
  ManyToOne,
  PrimaryColumn,
  PrimaryGeneratedColumn,
  type Relation,
} from 'typeorm';

export const PERSON_ROLES = ['viewer', 'editor', 'releaser', 'administrator'] as const;
/** Each role may do what the one before it may. */
export type PersonRole = (typeof PERSON_ROLES)[number];

@Entity('person')
export class Person {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @Column('text', { unique: true })
  name: string;

  @Column('text', { name: 'display_name' })
  displayName: string;

  @Column('text', { name: 'password_hash' })
  passwordHash: string;

  @Column('text')
  role: PersonRole;

  /** Since when the person may not sign in; null while they may. */
  @Column('timestamptz', { name: 'disabled_at', nullable: true })
  disabledAt: Date | null;

  /** Whether the password is one that an administrator gave: it opens nothing but its own change. */
  @Column('boolean', { name: 'must_change', default: false })
  mustChange: boolean;

  @Column('timestamptz', { name: 'last_sign_in_at', nullable: true })
  lastSignInAt: Date | null;

  /** The hash of a link by which the person chooses a password, once. */
  @Column('text', { name: 'link_hash', nullable: true, unique: true })
  linkHash: string | null;

  @Column('timestamptz', { name: 'link_ends_at', nullable: true })
  linkEndsAt: Date | null;

  @CreateDateColumn({ name: 'created_at', type: 'timestamptz' })
  createdAt: Date;
}

@Entity('session')
export class Session {
  /** The hash of the cookie's token. */
  @PrimaryColumn('text')
  id: string;

  @ManyToOne(() => Person, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  @Column('text')
  csrf: string;

  @Index()
  @Column('timestamptz', { name: 'expires_at' })
  expiresAt: Date;

  /** By what its person knows it; the hash says nothing to them. */
  @Column('uuid', { default: () => 'gen_random_uuid()' })
  number: string;

  @Column('timestamptz', { name: 'begun_at', default: () => 'now()' })
  begunAt: Date;

  /** When it was last asked for something, to the minute. */
  @Column('timestamptz', { name: 'used_at', default: () => 'now()' })
  usedAt: Date;

  @Column('text', { default: '' })
  address: string;

  /** What the browser says that it is. */
  @Column('text', { default: '' })
  agent: string;
}

/** A token with which a person's own git, or a program, reaches the project. It may no more than its person may. */
@Entity('access_token')
export class AccessToken {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @ManyToOne(() => Person, { onDelete: 'CASCADE', nullable: false })
  @JoinColumn({ name: 'person_id' })
  person: Relation<Person>;

  @Column('text')
  label: string;

  @Column('text', { unique: true })
  hash: string;

  @CreateDateColumn({ name: 'created_at', type: 'timestamptz' })
  createdAt: Date;

  /** `read`, `write`, `run`, `release`, `consent`. */
  @Column('text', { array: true })
  rights: string[];

  @Column('timestamptz', { name: 'expires_at' })
  expiresAt: Date;

  @Column('timestamptz', { name: 'last_used_at', nullable: true })
  lastUsedAt: Date | null;
}

/** Who did what. */
@Entity('audit')
export class Audit {
  @PrimaryGeneratedColumn('identity', { type: 'bigint', generatedIdentity: 'ALWAYS' })
  id: string;

  @CreateDateColumn({ type: 'timestamptz' })
  at: Date;

  @Column('text')
  person: string;

  @Column('text')
  action: string;

  @Column('text')
  subject: string;

  @Column('jsonb', { nullable: true })
  detail: Readonly<Record<string, unknown>> | null;
}
