import { Column, Entity, PrimaryGeneratedColumn } from 'typeorm';

/** Where a server of the project really is. The secret is encrypted and never leaves the server. */
@Entity('connection')
export class Connection {
  @PrimaryGeneratedColumn('uuid')
  id: string;

  /** The server's name in the project. */
  @Column('text', { unique: true })
  server: string;

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
