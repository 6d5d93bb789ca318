import type { LoadPolicy } from '../../../model/load-policy.js';
import { nearOr } from '../../../language/messages.js';
import type { Finding } from '../../../model/diagnostic.js';

import { nearest } from '../../../sql/nearest.js';

/** What is said about the load of a table; the policy is added where it is reported. */
export type LoadMessage = Omit<Finding<'policy'>, 'policy' | 'code'>;

/** What a policy needs. */
export const needsOption = (policy: LoadPolicy, option: string): LoadMessage => ({
  message: `load = ${policy} needs a ${option.replaceAll('_', ' ')}`,
  hint: `write ${option} = 'column'`,
});
export const needsKey = (policy: LoadPolicy): LoadMessage => ({
  message: `load = ${policy} needs a business key`,
  hint: "write business_key = 'column', or several with commas between",
});
export const needsRole = (policy: LoadPolicy, role: string): LoadMessage => ({
  message: `load = ${policy} needs a column with the role ${role}`,
  hint: `write options (role '${role}') on it`,
});
export const lookBackNeedsKey: LoadMessage = {
  message: 'look_back needs a business key to recognize rows that are already there',
  hint: "write business_key = 'column'",
};
export const viewWithKeys: LoadMessage = {
  message: 'a view cannot hold surrogate keys',
  hint: 'write load = rebuild',
};
export const nothingToNumber = (column: string): LoadMessage => ({
  message: `${column} needs a business key to number`,
  hint: "write business_key = 'column'",
});

/** What a policy does not support. @param policies those that do, in words */
export const unsupported = (policy: LoadPolicy, what: string, policies: string): LoadMessage => ({
  message: `load = ${policy} does not support ${what}`,
  hint: `it applies to ${policies}`,
});
export const unsupportedMissingRows = (
  policy: LoadPolicy,
  value: string,
  possible: readonly string[],
): LoadMessage => ({
  message: `load = ${policy} does not support missing_rows = ${value}`,
  hint: `use ${possible.join(', ')}`,
});
export const flagNeedsColumn: LoadMessage = {
  message: 'missing_rows = flag needs a column with the role deleted flag',
  hint: "write options (role 'deleted flag') on a boolean column",
};
export const missingRowsOfEvents: LoadMessage = {
  message: 'a history from events does not support missing_rows: a key without events is not a missing row',
  hint: 'remove missing_rows or effective_from',
};
export const nothingToGuard = (removesBy: string): LoadMessage => ({
  message: 'largest_loss has nothing to guard: this load removes no rows',
  hint: `write ${removesBy}`,
});
export const needsAllRows = (missingRows: string, partial: readonly string[]): LoadMessage => ({
  message: `missing_rows = ${missingRows} needs all rows, but ${partial.join(', ')} is loaded incrementally`,
  hint: 'use missing_rows = keep, or load the source in full',
});
export const driftNeverRewritten: LoadMessage = {
  message: 'a table with drift = add is never rewritten',
  hint: 'columns that exist only in the table would be lost; remove shape',
};
export const stampsNeverRewritten = (role: string, column: string): LoadMessage => ({
  message: `a history from events that keeps ${role} is never rewritten`,
  hint: `unchanged versions keep their ${column}; remove shape`,
});
export const previousOfWhat = (column: string): LoadMessage => ({
  message: `${column} does not say whose previous value it holds`,
  hint: "write previous_of 'column', a column that is versioned or overwritten",
});

/** Values of options. */
export const inOption = (option: string, problem: string, hint: string): LoadMessage => ({
  message: `option ${option}: ${problem}`,
  hint,
});
export const ONE_CONDITION = 'write one condition over q, the query’s row, and t, the table’s';
export const CONDITIONS_READ = 'a condition only reads';
export const STATEMENTS = 'write statements with semicolons between';
export const GROWING = 'choose a time or a number that grows';
export const watermarkIs = (type: string): string => `the watermark is of type ${type}`;
export const unknownInCondition = (option: string, written: string, names: readonly string[]): LoadMessage =>
  inOption(
    option,
    `there is no ${written}`,
    nearOr(nearest(written.split('.').at(-1)!, names), 'write q.column or t.column')!,
  );
/** @param table whose column it would be; undefined where it is the query's */
export const unknownNamed = (
  option: string,
  name: string,
  names: readonly string[],
  table: string | undefined,
): LoadMessage =>
  inOption(
    option,
    table === undefined ? `the query returns no column ${name}` : `${table} has no column ${name} of the query`,
    nearOr(nearest(name, names), `available: ${names.join(', ')}`)!,
  );

/** Statements before the query. */
export const NOT_BEFORE = 'only set, select, analyze, lock, insert, update and delete are allowed there';
export const NO_VACUUM = 'vacuum cannot run inside a transaction';
export const lacksLayer = (name: string): string => `${name} lacks its layer`;
export const notRead = (name: string): string => `${name} is not read by the query, so it may not be there yet`;
export const emptyBefore = (name: string): string => `${name} is empty at that point: its load rebuilds it`;
export const onlyItself = (name: string): string => `only ${name} may be changed by its load`;

/** Types. */
export const ofColumn = (column: string, problem: string, hint: string): LoadMessage => ({
  message: `${column}: ${problem}`,
  hint,
});
export const CHOOSE_KEY = 'choose key columns whose values can be distinguished';
export const CAST_TO_TEXT = 'its load compares rows: cast it to text in the query, and declare it as text';

/** Columns that are looked up. */
export const viewLooksUp = (column: string): LoadMessage =>
  ofColumn(column, 'a view cannot look keys up', 'write load = rebuild or load = merge');
export const lookedUpWhere = (column: string): LoadMessage =>
  ofColumn(column, 'looked_up_by does not say in which table', 'write references layer.table (key) on the column');
export const notADefinition = (column: string, table: string): LoadMessage =>
  ofColumn(column, `${table} is not a definition of the project`, 'look keys up in a table that Ouvrage loads');
export const withoutSurrogate = (column: string, table: string): LoadMessage =>
  ofColumn(column, `${table} has no surrogate key`, "give one of its columns options (role 'surrogate key')");
export const noPlaceholders = (column: string, table: string): LoadMessage =>
  ofColumn(
    column,
    `${table} holds one copy per date, which cannot contain placeholders`,
    "use missing 'unknown' or 'stop'",
  );
export const otherNumberOfColumns = (
  column: string,
  given: number,
  { table, key }: { readonly table: string; readonly key: readonly string[] },
): LoadMessage =>
  ofColumn(
    column,
    `looked_up_by names ${given} ${given === 1 ? 'column' : 'columns'}, the business key of ${table} has ${key.length}`,
    `name them in the order of ${key.join(', ') || 'its business key'}`,
  );
export const notReturned = (column: string, name: string, returned: readonly string[]): LoadMessage =>
  ofColumn(
    column,
    `the query returns no column ${name}`,
    nearOr(nearest(name, returned), 'add it to the query; the contract need not have it')!,
  );
