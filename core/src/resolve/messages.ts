import type { MisplacedCall } from '../columns/problem.js';
import { badOption, nearOr } from '../language/messages.js';
import type { Diagnostic, FilePlace, Finding } from '../model/diagnostic.js';
import { errorAt } from '../model/diagnostic.js';
import { nearest } from '../sql/nearest.js';

/** What is said about names across files, and about the columns of queries. */

export function unknownLayer(layer: string, layers: Iterable<string>, otherwise: string): Finding<'unknown-layer'> {
  const near = nearest(layer, layers);
  return {
    code: 'unknown-layer',
    message: `${layer} is not a layer`,
    hint: nearOr(near, otherwise),
    name: layer,
    nearest: near,
  };
}
export const addLayer = (layer: string) => `write create schema ${layer} in layers.sql`;
export const theLayersAre = (layers: Iterable<string>) => `the layers are ${[...layers].join(', ')}`;

/** @param full tables of that name, with their layers */
export const withoutLayer = (name: string, full: readonly string[]): Finding<'table-without-layer'> => ({
  code: 'table-without-layer',
  message: `${name} has no layer`,
  hint: full.length ? `did you mean ${full.join(' or ')}?` : 'write layer.table',
  name,
  candidates: full,
});

/** @param elsewhere tables of that name in other layers */
export function unknownTable(
  { layer, name }: { readonly layer: string; readonly name: string },
  inLayer: Iterable<string>,
  elsewhere: readonly string[],
): Finding<'unknown-table'> {
  const near = nearest(name, inLayer);
  return {
    code: 'unknown-table',
    message: `layer ${layer} has no table ${name}`,
    hint: nearOr(near && `${layer}.${near}`, elsewhere.length ? `there is ${elsewhere.join(', ')}` : undefined),
    name,
    nearest: near,
  };
}

export const laterLayer = (
  [reader, read]: readonly [string, string],
  layer: string,
  earlier: readonly string[],
): Finding<'later-layer'> => ({
  code: 'later-layer',
  message: `${reader} reads ${read}, which is in a later layer`,
  hint: `a table of ${layer} reads only from ${earlier.join(', ')}`,
  table: read,
});

const job = (message: string, hint: string | undefined): Finding<'job'> => ({ code: 'job', message, hint });

export const wrongSchedule = ({ message, hint }: { readonly message: string; readonly hint: string }) =>
  job(`at: ${message}`, hint);
export const noZone = (zone: string, near: string | undefined) =>
  job(`time_zone: ${zone} is not a time zone`, nearOr(near, 'name a place such as Europe/Paris, or UTC'));
export const jobSource = (table: string) =>
  job(
    `${table} is brought in, not loaded`,
    'name the tables that read it: its rows come by themselves, or under Sources',
  );
export const unknownJob = (name: string, jobs: Iterable<string>) =>
  job(`there is no job ${name}`, nearOr(nearest(name, jobs), 'jobs are the files of jobs/, by their names'));
export const jobCycle = (way: readonly string[]) =>
  job(`the job comes after itself: ${way.join(' after ')}`, 'take one of them out of after');
export const notDelivered = (table: string, delivered: readonly string[]) =>
  job(
    `no files are delivered for ${table}`,
    nearOr(
      nearest(table, delivered),
      delivered.length ? `they are for ${delivered.join(', ')}` : 'declare one with a pattern',
    ),
  );
export const unknownJobParameter = (name: string, parameters: Iterable<string>) =>
  job(`the project does not set param.${name}`, nearOr(nearest(name, parameters), 'write it into parameters.sql'));
export const jobParameterOfView = (name: string, view: string) =>
  job(
    `the view ${view} reads param.${name}`,
    'a view has one value for all who read it: give it another load, or leave the parameter out',
  );
export const jobParameterTwice = (name: string, other: string) =>
  job(`the job ${other} loads the same tables with another value of param.${name}`, 'give both the same value');

/** Two files that make one table. */
export const duplicateTable = (at: FilePlace, table: string, other: FilePlace): Diagnostic => ({
  ...errorAt(at, {
    code: 'duplicate-table',
    message: `${table} is already defined in ${other.path}`,
    hint: 'rename one of the files',
    table,
  }),
  related: [{ ...other, message: 'the other definition' }],
});

export const withoutCsv = (path: string): Finding<'unknown-table'> => ({
  code: 'unknown-table',
  message: `there is no CSV file for ${path}`,
  hint: `add ${path.replace(/\.sql$/, '.csv')}`,
  name: path,
});

/** A link of a note. @param names what it could have led to */
export function nothingOfThatName(name: string, names: readonly string[]): Finding<'unknown-table'> {
  const near = nearest(name, names);
  return {
    code: 'unknown-table',
    message: `${name} is linked here, and there is none`,
    hint: nearOr(near, 'write it as `code` if it is not meant as a link'),
    name,
    nearest: near,
  };
}

export function unknownServer(table: string, server: string, servers: Iterable<string>): Finding<'unknown-table'> {
  const near = nearest(server, servers);
  return {
    code: 'unknown-table',
    message: `${table} uses server ${server}, which is not declared`,
    hint: nearOr(near, `write create server ${server}`),
    name: server,
    nearest: near,
  };
}

export const sourceOfOwnLayer = (table: string, schema: string, name: string): Finding<'bad-option'> => ({
  code: 'bad-option',
  message: `${table} is assigned to ${schema}, which is a layer of the project`,
  hint: `read ${schema}.${name} directly`,
  option: 'schema_name',
});

export const incrementalWithoutWatermark = (table: string, columns: readonly string[]): Finding<'bad-option'> => ({
  code: 'bad-option',
  message: `${table} is loaded incrementally but names no watermark`,
  hint: `write watermark 'column', one of ${columns.join(', ')}`,
  option: 'watermark',
});
export const unknownWatermark = (table: string, name: string, columns: readonly string[]): Finding<'bad-option'> =>
  badOption(
    'watermark',
    `${table} has no column ${name}`,
    nearOr(nearest(name, columns), `its columns are ${columns.join(', ')}`),
  );

export function ruleOfUnknownLayer(rule: string, layer: string, layers: readonly string[]): Finding<'unknown-layer'> {
  const near = nearest(layer, layers);
  return {
    code: 'unknown-layer',
    message: `review.${rule}.${layer} is for a layer that the project does not have`,
    hint: nearOr(near, `its layers are ${layers.join(', ')}`),
    name: layer,
    nearest: near,
  };
}

export function unknownParameter(name: string, parameters: Iterable<string>): Finding<'unknown-parameter'> {
  const near = nearest(name, parameters);
  return {
    code: 'unknown-parameter',
    message: `parameters.sql does not set param.${name}`,
    hint: nearOr(near, `write set param.${name} = '…' there`),
    name,
    nearest: near,
  };
}
export const eachWithoutList = (setting: string): Finding<'unknown-parameter'> => ({
  code: 'unknown-parameter',
  message: `${setting} has a value only in a definition with for_each`,
  hint: "write for_each = 'reference.table' in its options",
  name: setting,
});

export function unknownFunction(name: string, functions: Iterable<string>): Finding<'unknown-function'> {
  const near = nearest(name, functions);
  return {
    code: 'unknown-function',
    message: `there is no function functions.${name}`,
    hint: nearOr(near, `add functions/${name}.sql`),
    name,
    nearest: near,
  };
}

/** @param way its members in order; of a large cycle, some of them */
export const cycle = (table: string, tables: readonly string[], way: readonly string[]): Finding<'cycle'> => ({
  code: 'cycle',
  message: `${table} reads itself: ${way.join(' reads ')}`,
  hint: 'remove one of these references',
  tables,
});
export const moreOfCycle = (tables: number) => `… (${tables} tables in all)`;

/** The columns of queries. */
export const tooManyColumns = (columns: number, most: number): Finding<'too-many-columns'> => ({
  code: 'too-many-columns',
  message: `the query returns ${columns} columns; a table can have at most ${most}`,
  hint: 'remove some, or split them into several tables',
  columns,
});
export const sameColumnTwice = (column: string): Finding<'duplicate-column'> => ({
  code: 'duplicate-column',
  message: `the query returns two columns named ${column}`,
  hint: 'give one of them another name with as',
  name: column,
});
export const unnamedColumn: Finding<'unnamed-column'> = {
  code: 'unnamed-column',
  message: 'a column of the query has no name',
  hint: 'name it with as',
};
/** @param parts the name as it is written; the last one is the column's */
export function unknownColumn(parts: readonly string[], near: string | undefined): Finding<'unknown-column'> {
  const name = parts.at(-1)!;
  return {
    code: 'unknown-column',
    message: parts.length > 1 ? `${parts.slice(0, -1).join('.')} has no column ${name}` : `there is no column ${name}`,
    hint: nearOr(near),
    name,
    nearest: near,
  };
}
export const notInQuery = (name: string, near: string | undefined): Finding<'unknown-table'> => ({
  code: 'unknown-table',
  message: `${name} is not a table in this query`,
  hint: nearOr(near),
  name,
  nearest: near,
});
export const ambiguousColumn = (name: string, tables: readonly string[]): Finding<'ambiguous-column'> => ({
  code: 'ambiguous-column',
  message: `${name} is ambiguous: ${tables.join(' and ')} have it`,
  hint: `write ${tables[0]}.${name} or ${tables[1]}.${name}`,
  name,
  tables,
});
export const sameAlias = (name: string): Finding<'ambiguous-column'> => ({
  code: 'ambiguous-column',
  message: `two tables in this query are named ${name}`,
  hint: 'give one of them another name with as',
  name,
  tables: [name, name],
});
export const tooManyNames = (table: string, given: number, columns: number): Finding<'columns-differ'> => ({
  code: 'columns-differ',
  message: `${table} names ${given} columns, and its query returns ${columns}`,
  hint: 'name at most that many',
  counts: [given, columns],
});
export const notJoinedOn = (
  [lacks, other]: readonly [string, string],
  name: string,
  near: string | undefined,
): Finding<'unknown-column'> => ({
  code: 'unknown-column',
  message: `${lacks} has no column ${name}, on which it is joined with ${other}`,
  hint: nearOr(near),
  name,
  nearest: near,
});
const AFTERWARDS: Readonly<Record<MisplacedCall['clause'], string>> = {
  where: 'where is decided before rows are grouped',
  on: 'joins are made before rows are grouped',
  'group by': 'it would have to be known before rows are grouped',
  having: 'having is decided before windows are',
  aggregate: 'aggregates do not nest',
  window: 'windows do not nest',
};
export const misplacedCall = ({ name, what, clause }: MisplacedCall): Finding<'misplaced-call'> => ({
  code: 'misplaced-call',
  message: `${what === 'window' ? 'the window function' : 'the aggregate'} ${name} is not allowed here: ${what === 'window' && clause !== 'aggregate' && clause !== 'window' ? 'windows are computed later' : AFTERWARDS[clause]}`,
  hint: what === 'aggregate' && clause === 'where' ? 'write the condition in having' : 'compute it in a CTE before',
  name,
});
export const ungroupedColumn = (name: string): Finding<'not-grouped'> => ({
  code: 'not-grouped',
  message: `${name} is neither grouped nor aggregated`,
  hint: `add ${name} to group by, or say which value of a group is meant, as min(${name}) does`,
  name,
});
const RECURSIONS = {
  'no-union': 'is recursive without a union of where it begins and what follows',
  'first-part': 'reads itself in the part with which it begins',
  twice: 'reads itself more than once',
} as const;
export const wrongRecursion = (name: string, fault: keyof typeof RECURSIONS): Finding<'recursion'> => ({
  code: 'recursion',
  message: `${name} ${RECURSIONS[fault]}`,
  hint: 'write: first rows union all select … from the name, once',
  name,
});
export const unionDiffers = (left: number, right: number): Finding<'columns-differ'> => ({
  code: 'columns-differ',
  message: `the parts of the union return ${left} and ${right} columns`,
  hint: 'return the same columns from each',
  counts: [left, right],
});
