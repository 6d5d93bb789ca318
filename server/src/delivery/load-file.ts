import type { DeliveryOptions } from '@ouvrage/core/intake';
import { targetPlace } from '@ouvrage/core/load';
import type { Environment, SourceTable } from '@ouvrage/core/model';
import { ident, idents, qualified } from '@ouvrage/core/sql';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import { codeOf } from '../warehouse/load-errors.js';
import { readDelivery, UnreadableFile, type BadValue, type DeliveredRow, type FileColumn } from './read-delivery.js';
import { forgetRejects, keepRejects, linesSetAside } from './rejects.js';

/** A file with more bad rows is not what its table declares. */
const MOST_REJECTS = 10_000;
/** Columns of a file that nobody declared, as they are reported. */
const MOST_TOLD = 20;
/** Repeated keys that are told. */
const KEYS_TOLD = 3;

/** A value that stops a file. */
export class BadRow extends Error {
  constructor(readonly bad: BadValue) {
    super(`line ${bad.line}, column ${bad.column}: “${bad.value}” ${bad.reason}`);
  }
}

/** One file, and the table that takes it. */
interface FileFor {
  readonly client: pg.ClientBase;
  readonly table: SourceTable;
  readonly options: DeliveryOptions;
  readonly file: string;
  /** Values that the file's name gives. */
  readonly parts: ReadonlyMap<string, string>;
}

export interface Loading extends FileFor {
  readonly environment: Environment;
  /** The name under which it was delivered. */
  readonly name: string;
  readonly digest: string;
  /** Whether the same content was loaded before, and rows of it set aside. */
  readonly isAgain: boolean;
}

export interface LoadedFile {
  readonly rows: number;
  readonly rejects: number;
  /** Columns of the file that the table does not declare. */
  readonly extra: readonly string[];
}

const columnsInside = ({ table, parts }: FileFor): FileColumn[] =>
  table.contract.columns.filter((c) => !parts.has(c.name));
const partsOf = ({ table, parts }: FileFor) =>
  [...parts].filter(([column]) => table.contract.columns.some((c) => c.name === column));

/**
 * Rows of a file into the landing table, in place of those that the file replaces. Of a file that only adds rows and
 * comes again, those that were set aside are read and no others.
 * @throws BadRow, UnreadableFile, or the database's error
 */
export async function loadFile(loading: Loading): Promise<LoadedFile> {
  const { client, environment, table, options, file, name, digest, isAgain } = loading;
  const place = targetPlace(environment, table);
  const columns = columnsInside(loading);
  const known = partsOf(loading);
  const extra = new Set<string>();
  const declared = new Set(table.contract.columns.map((c) => c.name.toLowerCase()));
  const onColumns = (names: readonly string[]) => {
    for (const n of names) if (!declared.has(n.toLowerCase()) && extra.size < MOST_TOLD) extra.add(n);
  };
  const missing = isAgain && options.appends ? await linesSetAside(client, place, { file: name, digest }) : undefined;
  const found = readDelivery(file, options, columns, onColumns)[Symbol.asyncIterator]();
  const begun = await found.next();
  // A file without rows replaces nothing.
  if (begun.done) return { rows: 0, rejects: 0, extra: [...extra] };
  if (!options.appends) {
    const same = known.map(
      ([column], i) =>
        `${ident(column)} = cast($${i + 1}::text as ${table.contract.columns.find((c) => c.name === column)!.type})`,
    );
    await client.query(
      `delete from ${qualified(place)}${same.length ? ` where ${same.join(' and ')}` : ''}`,
      known.map(([, value]) => value),
    );
  }
  const rejected: DeliveredRow[] = [];
  const lines = async function* (): AsyncGenerator<string> {
    let batch = '';
    for (let next: IteratorResult<DeliveredRow> = begun; !next.done; next = await found.next()) {
      const { line, problem, values } = next.value;
      if (missing && !missing.has(line)) continue;
      if (problem) {
        if (!options.setsAside) throw new BadRow(problem);
        if (rejected.length >= MOST_REJECTS)
          throw new UnreadableFile(
            `more than ${MOST_REJECTS} rows are bad, the first in ${new BadRow(rejected[0]!.problem!).message}`,
          );
        rejected.push(next.value);
        continue;
      }
      batch += copyLine([...values, ...known.map(([, value]) => value)]);
      if (batch.length > 65_536) {
        yield batch;
        batch = '';
      }
    }
    if (batch) yield batch;
  };
  const names = [...columns.map((c) => c.name), ...known.map(([column]) => column)];
  const writing = client.query(copyFrom(`copy ${qualified(place)} (${idents(names)}) from stdin`));
  await pipeline(Readable.from(lines()), writing);
  // What was set aside of an earlier file in this one's place is no more; of one that only adds rows, it stays.
  await forgetRejects(client, place, options.appends ? { file: name, digest } : { file: name });
  if (rejected.length) await keepRejects({ client, environment, table, columns, of: { file: name, digest } }, rejected);
  return { rows: writing.rowCount ?? 0, rejects: rejected.length, extra: [...extra] };
}

export const isRepeatedKey = (error: unknown): boolean => codeOf(error) === '23505';

/** The lines of a file that have one key, in words; undefined where it has none: then rows that are there have it. */
export async function repeatedKeys(from: FileFor): Promise<string | undefined> {
  const { client, table, options, file } = from;
  const key =
    table.contract.constraints.find((c) => c.kind === 'primary key')?.columns.filter((c) => !from.parts.has(c)) ?? [];
  const columns = columnsInside(from);
  if (key.length === 0) return undefined;
  const places = key.map((k) => columns.findIndex((c) => c.name === k));
  await client.query('begin');
  try {
    await client.query(
      `create temp table lines_of_file (line$ bigint, ${key.map((k, i) => `${ident(k)} ${columns[places[i]!]!.type}`).join(', ')}) on commit drop`,
    );
    const lines = async function* (): AsyncGenerator<string> {
      for await (const { line, values, problem } of readDelivery(file, options, columns))
        if (!problem) yield copyLine([String(line), ...places.map((p) => values[p] ?? null)]);
    };
    await pipeline(Readable.from(lines()), client.query(copyFrom('copy pg_temp.lines_of_file from stdin')));
    const { rows } = await client.query<{ lines: string; value: string }>(
      `select string_agg(line$::text, ', ' order by line$) as lines, concat_ws(', ', ${idents(key)}) as value
from (select *, row_number() over (partition by ${idents(key)} order by line$) as n$ from pg_temp.lines_of_file) as l where n$ <= 5
group by ${idents(key)} having count(*) > 1 order by min(line$) limit ${KEYS_TOLD + 1}`,
    );
    if (rows.length === 0) return `rows of this file have a ${key.join(', ')} that already exists in ${table.fullName}`;
    const told = rows
      .slice(0, KEYS_TOLD)
      .map((r) => `lines ${r.lines} have the same ${key.join(', ')} “${r.value.slice(0, 200)}”`);
    return `${told.join('; ')}${rows.length > KEYS_TOLD ? '; and more' : ''}`;
  } finally {
    await client.query('rollback');
  }
}

/** One row in the text format of COPY. */
function copyLine(values: readonly (string | null)[]): string {
  const field = (v: string | null) =>
    v === null
      ? '\\N'
      : v.replaceAll('\\', '\\\\').replaceAll('\t', '\\t').replaceAll('\n', '\\n').replaceAll('\r', '\\r');
  return `${values.map(field).join('\t')}\n`;
}
