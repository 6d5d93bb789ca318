import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { Contract, Table } from '../../../model/project.js';
import { leftToDatabase as left } from './messages.js';

/** What a contract leaves to the database, which no load does. */
export function leftDiagnostics({ path }: Pick<Table, 'path'>, { leftToDatabase }: Contract): Diagnostic[] {
  return leftToDatabase.map(({ kind, column, range }) => errorAt({ path, range }, left(kind, column)));
}
