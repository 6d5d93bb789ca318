import { nearOr } from '../../../language/messages.js';
import type { Finding } from '../../../model/diagnostic.js';
import { nearest } from '../../../sql/nearest.js';

/** What is said about worked examples. */

const example = (message: string, hint?: string): Finding<'example'> => ({ code: 'example', message, hint });

export const unknownDefinition = (name: string, definitions: Iterable<string>): Finding<'example'> =>
  example(`there is no definition ${name}`, nearOr(nearest(name, definitions), 'rename the folder to layer.table'));

/** @param kind what the file gives */
export const notAnInput = (
  { table, file, kind }: { readonly table: string; readonly file: string; readonly kind: 'input' | 'member' },
  expected: readonly string[],
): Finding<'example'> => {
  const does = kind === 'input' ? 'does not read' : 'looks no key up in';
  const list = expected.length ? `it ${kind === 'input' ? 'reads' : 'uses'} ${expected.join(', ')}` : 'remove the file';
  return example(`${table} ${does} ${file}`, nearOr(nearest(file, expected), list));
};

export const missingFile = (name: string, what: string): Finding<'example'> =>
  example(`${name} is missing`, `${what}; a file with a header alone has no rows`);

export const unknownExampleColumn = (name: string, table: string, columns: readonly string[]): Finding<'example'> =>
  example(`${table} has no column ${name}`, nearOr(nearest(name, columns), `its columns are ${columns.join(', ')}`));

export const badExampleValue = (
  { column, value }: { readonly column: string; readonly value: string },
  problem: string,
): Finding<'example'> => example(`${column}: “${value}” ${problem}`);

export const oneLoad = (table: string): Finding<'example'> =>
  example(`${table} is made from its inputs alone by each load`, 'give one load, and no target.csv');

export const eventsBegin = example(
  'a history of events cannot begin with target.csv',
  'give what came before as a load of its own: 1.input.layer.table.csv',
);

export const loadLeftOut = (load: number): Finding<'example'> =>
  example(`load ${load} has no input`, 'number loads from 1 without gaps');

export const paramsRows = (loads: number): Finding<'example'> =>
  example(`params.csv needs one line, or one for each of ${loads} loads`);

export const unknownParam = (name: string, names: readonly string[]): Finding<'example'> =>
  example(`there is no parameter ${name}`, nearOr(nearest(name, names), `its columns can be ${names.join(', ')}`));

export const eachRow = (columns: readonly string[]): Finding<'example'> =>
  example('each.csv needs one row', `its columns are ${columns.join(', ')}`);

export const notAFanOut = (table: string): Finding<'example'> =>
  example(`${table} is one table, not one for each row of a list`, 'remove each.csv');

export const cannotBeExpected = (table: string, name: string): Finding<'example'> =>
  example(
    `${table} uses ${name}, whose result differs with each call`,
    'use a parameter or a column of an input instead',
  );

export const tooManyRows = (rows: number, most: number): Finding<'example'> =>
  example(`the file has ${rows} rows; ${most} are the most`, 'keep the rows that show the case');
