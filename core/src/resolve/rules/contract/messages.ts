import { nearOr } from '../../../language/messages.js';
import type { Finding } from '../../../model/diagnostic.js';
import type { LeftToDatabase } from '../../../model/project.js';
import { nearest } from '../../../sql/nearest.js';

/** What is said about a contract held against its query or its file, and about its constraints. */

type OfColumn = Finding<'contract-column'>;

export const filledAndReturned = (column: string): OfColumn => ({
  code: 'contract-column',
  message: `${column} is filled by the load, and the query returns it too`,
  hint: 'remove it from the query',
  name: column,
});
/** @param undeclared columns of the query that the contract lacks */
export function notReturned(column: string, undeclared: readonly string[]): OfColumn {
  const near = nearest(column, undeclared);
  return {
    code: 'contract-column',
    message: `the query returns no column ${column}`,
    hint: nearOr(near, 'add it to the query, or remove it from the contract'),
    name: column,
    nearest: near,
  };
}
export const narrower = (column: string, given: string, declared: string): OfColumn => ({
  code: 'contract-column',
  message: `${column} is ${given} in the query and ${declared} in the contract: values could be truncated or rejected`,
  hint: 'widen the contract, or round in the query',
  name: column,
});
/** @param missing columns of the contract that the query lacks */
export const notDeclared = (column: string, missing: readonly string[]): OfColumn => ({
  code: 'contract-column',
  message: `the contract does not declare column ${column}, which the query returns`,
  hint: nearOr(nearest(column, missing), 'declare it, or remove it from the query'),
  name: column,
});

/** Reference tables: the header of the file. */
export function notInHeader(column: string, path: string, undeclared: readonly string[]): OfColumn {
  const near = nearest(column, undeclared);
  return {
    code: 'contract-column',
    message: `${path} has no column ${column}`,
    hint: nearOr(near, 'add it to the header row'),
    name: column,
    nearest: near,
  };
}
export const headerNotDeclared = (column: string, path: string, missing: readonly string[]): OfColumn => ({
  code: 'contract-column',
  message: `the contract does not declare column ${column} of ${path}`,
  hint: nearOr(nearest(column, missing), 'declare it'),
  name: column,
});
export const badValue = (
  column: string,
  { value, problem }: { readonly value: string; readonly problem: string },
  { path, line }: { readonly path: string; readonly line: number },
): Finding<'bad-reference-file'> => ({
  code: 'bad-reference-file',
  message: `${column}: “${value}” ${problem}`,
  hint: `line ${line} of ${path}`,
  line,
});

/** Constraints. */
const ofConstraint = (constraint: string, message: string): string => `constraint ${constraint}: ${message}`;

export function constraintLacksColumn(
  constraint: string,
  column: string,
  declared: readonly string[],
): Finding<'unknown-column'> {
  const near = nearest(column, declared);
  return {
    code: 'unknown-column',
    message: ofConstraint(constraint, `the contract has no column ${column}`),
    hint: nearOr(near),
    name: column,
    nearest: near,
  };
}
export const unknownInConstraint = (constraint: string, name: string): Finding<'unknown-column'> => ({
  code: 'unknown-column',
  message: ofConstraint(constraint, `there is no column ${name}`),
  name,
});
export function referencesNothing(
  constraint: string,
  table: string,
  tables: Iterable<string>,
): Finding<'unknown-table'> {
  const near = nearest(table, tables);
  return {
    code: 'unknown-table',
    message: ofConstraint(constraint, `it references ${table}, which is not a table of the project`),
    hint: nearOr(near),
    name: table,
    nearest: near,
  };
}
export function referencedLacks(
  constraint: string,
  { table, column }: { readonly table: string; readonly column: string },
  names: readonly string[],
): Finding<'unknown-column'> {
  const near = nearest(column, names);
  return {
    code: 'unknown-column',
    message: ofConstraint(constraint, `${table} has no column ${column}`),
    hint: nearOr(near),
    name: column,
    nearest: near,
  };
}
export const notAConstraint = (
  option: string,
  name: string,
  { table, names }: { readonly table: string; readonly names: readonly string[] },
): OfColumn => ({
  code: 'contract-column',
  message: `option ${option} names ${name}, which is not a constraint of ${table}`,
  hint: nearOr(nearest(name, names), `its constraints are ${names.join(', ')}`),
});

/** What is left to the database, and what to write instead. */
const LEFT: Readonly<Record<LeftToDatabase['kind'], readonly [string, string]>> = {
  default: [
    'loads write every column, so a default is never used',
    'return the value from the query, as in coalesce(column, value)',
  ],
  identity: [
    'loads assign the numbers, so that each key keeps its own',
    "write options (role 'surrogate key') on the column, and a business_key",
  ],
  generated: ['loads write every column; generated columns are not supported', 'compute it in the query'],
  exclusion: ['exclusion constraints are not supported', 'write it as a query in checks/'],
  collation: [
    'a table made from a query has the collation of the database',
    'write collate in the queries that compare or sort',
  ],
};
export function leftToDatabase(kind: LeftToDatabase['kind'], column: string): OfColumn {
  const [message, hint] = LEFT[kind];
  return {
    code: 'contract-column',
    message: column === '' ? message : `${column}: ${message}`,
    hint,
    ...(column === '' ? {} : { name: column }),
  };
}
