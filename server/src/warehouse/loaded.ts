import pg from 'pg';
import { qualified, literal } from '@ouvrage/core/sql';
import type { Hashing } from '@ouvrage/core/compile';
import type { Place, Environment } from '@ouvrage/core/model';
import { currentTime } from '../shared/time.js';

/** What the last successful load of a table was. */
export interface Loaded {
  readonly fingerprint: string;
  readonly rows: string | null;
  readonly runId: number;
  readonly at: string;
  /** The time of the load, ISO 8601 with microseconds; of tables that keep rows. */
  readonly loadTime?: string;
  /** The clock that it is from. */
  readonly clock?: Clock;
  /** How its values became hashes; as text, where that is not said. */
  readonly hashing?: Hashing;
}

/** What is remembered of a load. */
export interface Remembering {
  readonly fingerprint: string;
  readonly rows: string | null;
  readonly runId: number;
  /** An expression for the load's time, where it has one. */
  readonly time?: string;
  readonly clock?: Clock;
  readonly hashing?: Hashing | undefined;
}

/** Where a table can be read: built here, taken from production, or nowhere yet. */
export interface Standing {
  readonly where: 'here' | 'production' | 'nowhere';
  readonly place?: Place;
  readonly loaded?: Loaded;
}

/** The clock that a load's time is from. */
export type Clock = 'stand-in' | 'real';

/** The schema beside a layer's where an environment remembers what it holds. */
export const STATE_LAYER = 'ouvrage';

/** The statement that remembers a load, for the transaction that makes it visible. */
export function remembering(
  environment: Environment,
  table: string,
  { fingerprint, rows, runId, time, clock, hashing }: Remembering,
): string {
  const place = qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'loaded' });
  const values = [
    literal(table),
    literal(fingerprint),
    rows === null ? 'null' : String(BigInt(rows)),
    String(Math.trunc(runId)),
  ];
  values.push(
    time === undefined ? 'null' : `cast(${time} as timestamptz)`,
    clock === undefined ? 'null' : literal(clock),
  );
  values.push(hashing === undefined ? 'null' : literal(hashing), `timestamptz ${literal(currentTime().toISOString())}`);
  return `insert into ${place} as l (table_name, fingerprint, row_count, run_id, load_time, clock, hashing, loaded_at) values (${values.join(', ')})
    on conflict (table_name) do update set fingerprint = excluded.fingerprint, row_count = excluded.row_count, run_id = excluded.run_id, loaded_at = excluded.loaded_at,
      load_time = coalesce(excluded.load_time, l.load_time), clock = coalesce(excluded.clock, l.clock), hashing = excluded.hashing`;
}

/** Forgets tables that were dropped. */
export async function forget(
  client: pg.ClientBase,
  environment: Environment,
  tables: readonly string[],
): Promise<void> {
  const place = qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'loaded' });
  await client.query(`delete from ${place} where table_name = any($1)`, [tables]);
}
