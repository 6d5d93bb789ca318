import { Column, Entity, JoinColumn, ManyToOne, PrimaryGeneratedColumn, Unique, type Relation } from 'typeorm';

export const TLS_MODES = ['off', 'encrypted', 'verified'] as const;
/** Whether the way to a database is encrypted, and whether its certificate is held against the system's authorities. */
export type TlsMode = (typeof TLS_MODES)[number];

/** A database of others, and how it is reached. The secret is encrypted and never leaves the server. */
@Entity('connection')
export class Connection {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @Column('text', { unique: true })
  name: string;

  @Column('text')
  host: string;

  @Column('integer')
  port: number;

  @Column('text')
  database: string;

  @Column('text', { name: 'user_name' })
  user: string;

  @Column('text')
  secret: string;

  @Column('text', { default: 'off' })
  tls: TlsMode;
}

export const BOUND_ENVIRONMENTS = ['production', 'workspaces'] as const;
export type BoundEnvironment = (typeof BOUND_ENVIRONMENTS)[number];

/** The connection that a server of the project stands for, in production or in all workspaces. */
@Entity('binding')
@Unique(['server', 'environment'])
export class Binding {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  /** The server's name in the project. */
  @Column('text')
  server: string;

  @Column('text')
  environment: BoundEnvironment;

  @ManyToOne(() => Connection, { onDelete: 'CASCADE', nullable: false, eager: true })
  @JoinColumn({ name: 'connection_id' })
  connection: Relation<Connection>;
}

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
  drift: unknown;

  @Column('timestamptz', { name: 'compared_at', nullable: true })
  comparedAt: Date | null;

  /** The greatest watermark that was brought in, as PostgreSQL writes it. */
  @Column('text', { nullable: true })
  newest: string | null;

  @Column('timestamptz', { name: 'brought_in_at', nullable: true })
  broughtInAt: Date | null;
}

/** A value that the application remembers, such as the stand-in's day. */
@Entity('setting')
export class Setting {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  @Column('text', { unique: true })
  name: string;

  @Column('jsonb')
  value: unknown;
}
