import type { LoadPolicy } from '../model/load-policy.js';
import { nearOr } from '../language/messages.js';
import type { Finding } from '../model/diagnostic.js';

import { nearest } from '../sql/nearest.js';

/** What is said about definitions that make a table a row of a list; each is of the policy of its definition. */
export type FanOutMessage = Omit<Finding<'policy'>, 'policy' | 'code'>;

export const asFinding = (policy: LoadPolicy, message: FanOutMessage): Finding<'policy'> => ({
  code: 'policy',
  policy,
  ...message,
});

export const withoutList: FanOutMessage = {
  message: 'each_schema needs a list',
  hint: "write for_each = 'reference.table'",
};
export const notAList = (name: string, references: readonly string[]): FanOutMessage => ({
  message: `for_each: ${name} is not a reference table`,
  hint: nearOr(nearest(name, references), `available: ${references.join(', ') || 'none'}`),
});
export const noColumnInTemplate = (layer: string, column: string | undefined): FanOutMessage => ({
  message: 'each_schema must name a column of the list',
  hint: `write each_schema = '${layer}_{${column ?? 'column'}}'`,
});
export const listLacks = (list: string, column: string, header: readonly string[]): FanOutMessage => ({
  message: `${list} has no column ${column}`,
  hint: nearOr(nearest(column, header), `its columns are ${header.join(', ')}`),
});
export const emptyList = (list: string, path: string): FanOutMessage => ({
  message: `${list} has no rows, so there are no tables to make`,
  hint: `add a row to ${path}`,
});
export const badSchema = (list: string, schema: string, hint: string): FanOutMessage => ({
  message: `each_schema: a row of ${list} gives ‘${schema}’`,
  hint,
});
export const schemaTooLong = (most: number): string => `a schema name can have at most ${most} characters`;
export const missingValue = 'give the column a value in each row';
export const schemaTaken = (schema: string, layer: string, template: string): FanOutMessage => ({
  message: `each_schema: ${schema} is already in use`,
  hint: `add a prefix: '${layer}_${template}'`,
});
export const sameSchema = (list: string, schema: string): FanOutMessage => ({
  message: `each_schema: two rows of ${list} give ${schema}`,
  hint: 'use a column that distinguishes the rows',
});
