import { cutQuery, describing, LONGEST_SHOWN, type SizedColumn } from '@ouvrage/core/look';
import { shortType } from '@ouvrage/core/sql';
import Cursor from 'pg-cursor';
import type pg from 'pg';
import { isDatabaseError } from './sql-error.js';

/** What an answer with rows holds at most, in characters. */
const MOST_CHARACTERS = 8_000_000;
/** Characters that one fetch may bring. */
const FETCH_CHARACTERS = 4_000_000;
/** Characters of a value without a length of its own, a number or an instant. */
const SHORT = 40;

export interface ShownRows {
  readonly columns: readonly { readonly name: string; readonly type: string }[];
  /** Values as PostgreSQL writes them; long ones are cut, and end with how long they are. */
  readonly rows: (string | null)[][];
  /** True where there are more rows than an answer can hold: fewer were read than were asked for. */
  readonly isFull: boolean;
}

interface Asked {
  readonly sql: string;
  readonly values: readonly (string | null)[];
}

/** Values stay text, so that no digit is lost. */
const TYPES = { getTypeParser: () => (value: unknown) => value } as never;

/** A statement's rows, to be read bit by bit, through the extended protocol: one statement is one statement. */
export const cursorOf = (client: pg.ClientBase, { sql, values }: Asked): Cursor<(string | null)[]> =>
  client.query(new Cursor<(string | null)[]>(sql, [...values], { rowMode: 'array', types: TYPES }));

/** The columns that a cursor found once something of it was read. */
export const fieldsOf = (cursor: Cursor<(string | null)[]>): pg.FieldDef[] =>
  (cursor as unknown as { _result: { fields: pg.FieldDef[] } })._result.fields;

/** The columns of a query, with their types; no row is read. */
export async function columnsOf(
  client: pg.ClientBase,
  { sql, values }: Asked,
): Promise<(SizedColumn & { readonly name: string })[]> {
  const asked = describing(sql);
  const cursor = cursorOf(client, { sql: asked.sql, values });
  let fields: pg.FieldDef[];
  try {
    await within(asked.head, () => cursor.read(1));
    fields = fieldsOf(cursor);
  } finally {
    await cursor.close().catch(() => undefined);
  }
  const { rows } = await client.query<{ type: string; length: string }>({
    text: `select format_type(o, m) as type, typlen::text as length from unnest($1::oid[], $2::int[]) with ordinality as f (o, m, n) join pg_type t on t.oid = o order by n`,
    values: [fields.map((f) => f.dataTypeID), fields.map((f) => f.dataTypeModifier)],
  });
  return fields.map((f, i) => ({ name: f.name, type: shortType(rows[i]!.type), length: Number(rows[i]!.length) }));
}

/**
 * The first rows of a query as people are shown them: long values are cut where they are made, and an answer has
 * a limit in all.
 * @param most rows
 * @param exact how many columns at the end are not cut
 * @throws the database's error, its position counted from the query's beginning
 */
export async function shownRows(client: pg.ClientBase, asked: Asked, most: number, exact = 0): Promise<ShownRows> {
  const columns = await columnsOf(client, asked);
  const around = cutQuery(asked.sql, columns, LONGEST_SHOWN, exact);
  const widest = columns.reduce((sum, c) => sum + (c.length < 0 ? LONGEST_SHOWN : SHORT), 0);
  const fetched = Math.max(1, Math.floor(FETCH_CHARACTERS / Math.max(1, widest)));
  const cursor = cursorOf(client, { sql: around.sql, values: asked.values });
  const rows: (string | null)[][] = [];
  let characters = 0;
  try {
    while (rows.length < most) {
      const some = await within(around.head, () => cursor.read(Math.min(fetched, most - rows.length)));
      if (some.length === 0) break;
      for (const row of some) {
        characters += row.reduce((sum, v) => sum + (v?.length ?? 0), 0);
        if (characters > MOST_CHARACTERS && rows.length > 0) return { columns, rows, isFull: true };
        rows.push(row);
      }
    }
    return { columns, rows, isFull: false };
  } finally {
    await cursor.close().catch(() => undefined);
  }
}

/** Counts an error's position from behind a head that was put before the query. */
async function within<T>(head: number, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (isDatabaseError(error) && error.position !== undefined)
      Object.assign(error, { position: String(Math.max(1, Number(error.position) - head)) });
    throw error;
  }
}
