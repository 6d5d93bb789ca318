import type { BoundEnvironment, TlsMode } from '@ouvrage/api/connection';
import { Entity, PrimaryGeneratedColumn, Column, Unique, ManyToOne, JoinColumn, type Relation } from 'typeorm';
export const TLS_MODES = ['off', 'encrypted', 'verified'] as const satisfies readonly TlsMode[];

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

export const BOUND_ENVIRONMENTS = ['production', 'workspaces'] as const satisfies readonly BoundEnvironment[];

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
