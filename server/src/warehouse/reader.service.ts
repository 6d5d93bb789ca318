import { Injectable } from '@nestjs/common';
import { literal, SESSION_SETTINGS, shortType, type ParameterStatement } from '@ouvrage/core';
import type pg from 'pg';
import Cursor from 'pg-cursor';
import { Problem } from '../shared/problem.js';
import { WarehouseService } from './warehouse.service.js';

export interface ReadRows {
  /** Values as PostgreSQL writes them. */
  readonly rows: (string | null)[][];
  readonly fields: pg.FieldDef[];
}

export const TIMEOUT_SECONDS = 30;

/**
 * A connection as the reader, for what people look at: one read-only transaction, timed, cancelled
 * when the person leaves, rolled back, and cleaned before anyone else has it.
 */
@Injectable()
export class ReaderService {
  constructor(private readonly warehouse: WarehouseService) {}

  /** @throws DatabaseError as PostgreSQL sends it, or Problem when stopped */
  async read<T>(signal: AbortSignal, body: (client: pg.PoolClient) => Promise<T>, seconds = TIMEOUT_SECONDS): Promise<T> {
    const client = await this.warehouse.connect('reader');
    const stop = () => void this.warehouse.cancel('reader', client);
    signal.addEventListener('abort', stop);
    let sound = true;
    try {
      if (signal.aborted) throw stopped();
      await client.query('begin transaction read only');
      for (const setting of SESSION_SETTINGS) await client.query(setting);
      await client.query(`set local statement_timeout = ${literal(`${seconds}s`)}`);
      return await body(client);
    } catch (error) {
      if (signal.aborted) throw stopped();
      throw error;
    } finally {
      signal.removeEventListener('abort', stop);
      sound = await client
        .query('rollback')
        .then(() => client.query('discard all'))
        .then(
          () => true,
          () => false,
        );
      client.release(!sound);
    }
  }

  /** The first rows of one statement, through the extended protocol: one statement is one statement. */
  async rows(client: pg.PoolClient, { sql, values }: ParameterStatement, most: number): Promise<ReadRows> {
    const cursor = this.cursor(client, { sql, values });
    try {
      const rows = await cursor.read(most);
      const { fields } = (cursor as unknown as { _result: { fields: pg.FieldDef[] } })._result;
      return { rows, fields };
    } finally {
      await cursor.close().catch(() => undefined);
    }
  }

  /** A statement's rows, to be read bit by bit. */
  cursor(client: pg.PoolClient, { sql, values }: ParameterStatement): Cursor<(string | null)[]> {
    return client.query(new Cursor<(string | null)[]>(sql, [...values], { rowMode: 'array', types: this.warehouse.types }));
  }

  async typeNames(client: pg.PoolClient, fields: readonly pg.FieldDef[]): Promise<string[]> {
    const { rows } = await client.query<{ type: string }>(
      'select format_type(t, m) as type from unnest($1::oid[], $2::int[]) with ordinality as f (t, m, n) order by n',
      [fields.map((f) => f.dataTypeID), fields.map((f) => f.dataTypeModifier)],
    );
    return rows.map((r) => shortType(r.type));
  }

  /** A count that may take some seconds; null where it takes longer. */
  async count(client: pg.PoolClient, { sql, values }: ParameterStatement, seconds: number): Promise<number | null> {
    await client.query('savepoint before_count');
    await client.query(`set local statement_timeout = ${literal(`${seconds}s`)}`);
    try {
      return Number((await this.rows(client, { sql, values }, 1)).rows[0]![0]);
    } catch {
      await client.query('rollback to savepoint before_count');
      return null;
    } finally {
      await client.query(`set local statement_timeout = ${literal(`${TIMEOUT_SECONDS}s`)}`);
    }
  }
}

const stopped = () => new Problem(499, 'stopped', 'The preview was stopped');
