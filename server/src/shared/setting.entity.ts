import { Entity, PrimaryGeneratedColumn, Column } from 'typeorm';
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
