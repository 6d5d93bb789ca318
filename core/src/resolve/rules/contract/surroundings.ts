import type { IndexedFile, Table, Column } from '../../../model/project.js';
/** What a contract is held against. */
export interface ContractSurroundings {
  readonly file: IndexedFile;
  readonly tables: ReadonlyMap<string, Table>;
  readonly columns: Pick<ReadonlyMap<string, readonly Column[] | undefined>, 'get'>;
}
