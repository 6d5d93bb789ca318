import type pg from 'pg';
import { random as numbers, scratch } from './testing-sql.js';

/** What the tests of starters share: tables of random rows in a schema of the test file's own, and results as multisets. */
let schema: string;
export let client: pg.Client;

/** Says which schema; once for a file. */
export function open(own: string): void {
  schema = own;
  client = scratch(own);
}

export type Value = string | number | boolean | null;
export type Rows = Value[][];
export const SEEDS = Array.from({ length: 40 }, (_, seed) => seed);

export function random(seed: number) {
  const below = numbers(seed);
  return {
    below,
    pick: <T>(of: readonly T[]): T => of[below(of.length)]!,
    maybe: <T>(v: T): T | null => (below(5) === 0 ? null : v),
    rows: (most: number, row: (i: number) => Value[]): Rows => Array.from({ length: below(most) }, (_, i) => row(i)),
  };
}

export async function table(name: string, columns: Readonly<Record<string, string>>, rows: Rows): Promise<void> {
  const list = Object.entries(columns);
  await client.query(
    `drop table if exists ${name} cascade; create table ${name} (${list.map(([n, t]) => `"${n}" ${t}`).join(', ')})`,
  );
  if (rows.length)
    await client.query(
      `insert into ${name} select * from unnest(${list.map(([, t], i) => `$${i + 1}::${t}[]`).join(', ')})`,
      list.map((_, i) => rows.map((r) => r[i]!)),
    );
}

/** Numbers and instants in one spelling, so that rows of PostgreSQL and of TypeScript can be compared. */
export const spelled = (v: Value | undefined): string =>
  v === null || v === undefined
    ? 'null'
    : typeof v === 'boolean'
      ? v
        ? 't'
        : 'f'
      : /^-?\d+(\.\d+)?$/.test(String(v))
        ? String(Number(Number(v).toFixed(6)))
        : String(v);
export const multiset = (rows: readonly (readonly (Value | undefined)[])[]) =>
  rows.map((r) => r.map(spelled).join(' | ')).sort();
export const run = async (sql: string): Promise<{ names: string[]; rows: string[] }> => {
  const result = await client.query<Value[]>({ text: sql, rowMode: 'array' });
  return { names: result.fields.map((f) => f.name), rows: multiset(result.rows) };
};
export const full = (name: string) => `${schema}.${name}`;
