import type { ExampleOutcome } from '@ouvrage/api/example';
import { Column, Entity, Index, PrimaryColumn } from 'typeorm';
import { MadeAt } from '../shared/time.js';

/** What a worked example came to, by what its outcome depends on: the same example of another workspace is the same. */
@Entity('example_outcome')
@Index('example_outcome_of', ['table', 'name'])
export class KeptOutcome {
  /** Of the example's files, its definition and all that the definition reads. */
  @PrimaryColumn('text')
  digest: string;

  @Column('text', { name: 'table_name' })
  table: string;

  @Column('text')
  name: string;

  @Column('jsonb')
  outcome: ExampleOutcome;

  @MadeAt()
  at: Date;
}
