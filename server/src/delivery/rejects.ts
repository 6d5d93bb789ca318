import { targetPlace } from '@ouvrage/core/load';
import type { Environment, Place, SourceTable } from '@ouvrage/core/model';
import { idents, qualified, literal } from '@ouvrage/core/sql';
import type pg from 'pg';
import type { DeliveredRow, FileColumn } from './read-delivery.js';
import { currentTime } from '../shared/time.js';

/** Rows of delivered files that were set aside, in a table beside the landing table. */

/** Which file rows are of. */
interface OfFile {
  readonly file: string;
  /** Of its content; without one, whatever bore the name. */
  readonly digest?: string;
}

/** Where rows of a landing table's files are set aside. */
export const rejectsPlace = ({ schema, name }: Place): Place => ({ schema, name: `${name}_rejects` });

export const isThere = async (client: pg.ClientBase, place: Place): Promise<boolean> =>
  (await client.query<{ there: boolean }>('select to_regclass($1) is not null as there', [qualified(place)])).rows[0]!
    .there;

/** The condition of rows of a file, over parameters. Rows from before digests were kept are of whatever bore the name. */
const OF_FILE = `file = $1 and ($2::text is null or digest is not distinct from $2 or digest is null)`;

/** The lines of a file that were set aside. */
export async function linesSetAside(
  client: pg.ClientBase,
  landing: Place,
  { file, digest }: OfFile,
): Promise<Set<number>> {
  const place = rejectsPlace(landing);
  if (!(await isThere(client, place))) return new Set();
  await addDigest(client, place);
  const { rows } = await client.query<{ line: string }>(`select line from ${qualified(place)} where ${OF_FILE}`, [
    file,
    digest ?? null,
  ]);
  return new Set(rows.map((r) => Number(r.line)));
}

export async function forgetRejects(client: pg.ClientBase, landing: Place, { file, digest }: OfFile): Promise<void> {
  const place = rejectsPlace(landing);
  if (!(await isThere(client, place))) return;
  await addDigest(client, place);
  await client.query(`delete from ${qualified(place)} where ${OF_FILE}`, [file, digest ?? null]);
}

const addDigest = (client: pg.ClientBase, place: Place) =>
  client.query(`alter table ${qualified(place)} add column if not exists digest text`);

interface Keeping {
  readonly client: pg.ClientBase;
  readonly environment: Environment;
  readonly table: SourceTable;
  readonly columns: readonly FileColumn[];
  readonly of: Required<OfFile>;
}

/** Rows that are no rows of the table, with where they stood and what is wrong with them. */
export async function keepRejects(
  { client, environment, table, columns, of }: Keeping,
  rows: readonly DeliveredRow[],
): Promise<void> {
  const rejects = qualified(rejectsPlace(targetPlace(environment, table)));
  await client.query(
    `create table if not exists ${rejects} (file text not null, line bigint not null, column_name text not null, value text not null, reason text not null, row jsonb not null, at timestamptz not null default now(), digest text)`,
  );
  if (environment.readers.length) await client.query(`grant select on ${rejects} to ${idents(environment.readers)}`);
  const problems = rows.map((r) => r.problem!);
  await client.query(
    `insert into ${rejects} (file, digest, at, line, column_name, value, reason, row) select $1, $2, $8, * from unnest($3::bigint[], $4::text[], $5::text[], $6::text[], $7::jsonb[])`,
    [
      of.file,
      of.digest,
      problems.map((p) => p.line),
      problems.map((p) => p.column),
      problems.map((p) => p.value),
      problems.map((p) => p.reason),
      rows.map((r) => JSON.stringify(Object.fromEntries(columns.map((c, i) => [c.name, r.values[i] ?? null])))),
      currentTime(),
    ],
  );
}

/** Characters of a value that are shown or exported. */
const LONGEST_VALUE = 5000;

/** The rows of a file that were set aside, in order of their lines; a statement over the file's name and digest, which older tables do not have. */
/** @param hidden columns whose values are left out, as are those of whole lines then */
export function rejectsQuery(landing: Place, hidden: readonly string[] = []): string {
  const value = `left(value, ${LONGEST_VALUE})`;
  const shown = hidden.length
    ? `case when column_name is null or column_name in (${hidden.map(literal).join(', ')}) then null else ${value} end`
    : value;
  return `select line, column_name, ${shown} as value, reason from ${qualified(rejectsPlace(landing))} as r
where file = $1 and coalesce(to_jsonb(r) ->> 'digest', $2::text) = $2::text order by line`;
}
