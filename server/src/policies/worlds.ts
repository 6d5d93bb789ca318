import { expect } from '@jest/globals';
import type pg from 'pg';
import { random } from '../testing-sql.js';
import type { Row, Value } from './models.js';

/** What the tests of load policies share: rows of a source, dice, and tables held against models. */
export const hour = (n: number) =>
  new Date(Date.UTC(2026, 0, 1, n)).toISOString().slice(0, 19).replace('T', ' ') + '+00';

interface Dice {
  readonly below: (n: number) => number;
  readonly pick: (of: readonly Value[]) => Value;
}
export const dice = (seed: number): Dice => {
  const below = random(seed);
  return { below, pick: (of) => of[below(of.length)]! };
};

export async function fill(
  client: pg.Client,
  columns: readonly string[],
  rows: readonly Row[],
  types = columns.map(() => 'text'),
  table = 'src',
): Promise<void> {
  await client.query(
    `drop table if exists ${table}; create table ${table} (${columns.map((c, i) => `"${c}" ${types[i]}`).join(', ')})`,
  );
  if (rows.length)
    await client.query(
      `insert into ${table} select * from unnest(${columns.map((_, i) => `$${i + 1}::${types[i]}[]`).join(', ')})`,
      columns.map((c) => rows.map((r) => r[c] ?? null)),
    );
}

export const source = (columns: string) => ({
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw; create foreign table landing.src (${columns}) server s;`,
});

/** Whether a table has the rows of its model. */
export async function holds(
  client: pg.Client,
  columns: readonly string[],
  model: readonly Row[],
  seed: number,
): Promise<void> {
  const { rows } = await client.query<Row>(`select ${columns.join(', ')} from t`);
  const text = (r: Row) => columns.map((c) => `${c}=${r[c] ?? 'null'}`).join(' ');
  expect({ seed, rows: rows.map(text).sort() }).toEqual({ seed, rows: model.map(text).sort() });
}

export const KEYS = ['a', 'b', 'c', 'd'];
export const VALUES: readonly Value[] = ['1', '2', '3', null];
