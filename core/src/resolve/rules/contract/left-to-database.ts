import type { Diagnostic } from '../../../model/diagnostic.js';
import type { LeftToDatabase, Table, Contract } from '../../../model/project.js';
const LEFT_ADVICE: Readonly<Record<LeftToDatabase['kind'], readonly [string, string]>> = {
  default: [
    'a load writes every column, so that a default is never asked for',
    'return the value from the query, as in coalesce(column, value)',
  ],
  identity: [
    'a load numbers rows itself, so that each key keeps its number',
    "write options (role 'surrogate key') on the column, and a business_key",
  ],
  generated: ['a load writes every column, none is generated', 'compute it in the query'],
  exclusion: ['an exclusion constraint cannot be checked on what is made beside', 'say it as a query in checks/'],
  collation: [
    'a table made from a query has the collation of the database',
    'write collate in the queries that compare or sort',
  ],
};

/** What a contract leaves to the database, which no load does. */
export function leftDiagnostics({ path }: Pick<Table, 'path'>, { leftToDatabase }: Contract): Diagnostic[] {
  return leftToDatabase.map(({ kind, column, range }) => {
    const [message, hint] = LEFT_ADVICE[kind];
    return {
      code: 'contract-column',
      severity: 'error',
      path,
      range,
      message: column === '' ? message : `${column}: ${message}`,
      hint,
    };
  });
}
