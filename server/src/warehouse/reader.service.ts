import { AsyncLocalStorage } from 'node:async_hooks';
import { Injectable } from '@nestjs/common';
import { SESSION_SETTINGS } from '@ouvrage/core/load';
import type { Statement as ParameterStatement } from '@ouvrage/core/look';
import { literal } from '@ouvrage/core/sql';
import type pg from 'pg';
import type { WarehouseRole } from '../shared/config.js';
import { Problem } from '../shared/problem.js';
import { cursorOf } from './shown-rows.js';
import { WarehouseService } from './warehouse.service.js';

export const TIMEOUT_SECONDS = 30;

/** Under which role something is looked at: viewers have no right to what is sensitive. */
export type LookingRole = Extract<WarehouseRole, 'reader' | 'viewer'>;

/** Who looks. */
export interface Looking {
  readonly role: LookingRole;
  /** The sign-in name of the person. */
  readonly person: string;
  /** Whether only columns, types or a plan are asked for. */
  readonly seesNoRows?: boolean;
}

const looking = new AsyncLocalStorage<Looking>();

/** Does something for a person: what it reads in the warehouse, it reads under a role. */
export const lookingAs = <T>(who: Looking, look: () => Promise<T>): Promise<T> => looking.run(who, look);

/** The role of who looks; nobody has said anything, the one that sees the least. */
export const lookingRole = (): LookingRole => looking.getStore()?.role ?? 'viewer';

/** Does something for who looks that shows them no rows: only columns, types or a plan. */
export function seeingNoRows<T>(look: () => Promise<T>): Promise<T> {
  const who = looking.getStore();
  return who ? looking.run({ ...who, seesNoRows: true }, look) : look();
}

/** The name of who looks at rows; undefined where nobody does. */
export function lookingPerson(): string | undefined {
  const who = looking.getStore();
  return who?.seesNoRows ? undefined : who?.person;
}

/**
 * A connection for what people look at: one read-only transaction under the role of who looks, timed, cancelled
 * when the person leaves, rolled back, and cleaned before anyone else has it.
 */
@Injectable()
export class ReaderService {
  constructor(private readonly warehouse: WarehouseService) {}

  /** @throws DatabaseError as PostgreSQL sends it, or Problem when stopped */
  async read<T>(
    signal: AbortSignal,
    body: (client: pg.ClientBase) => Promise<T>,
    seconds = TIMEOUT_SECONDS,
  ): Promise<T> {
    const look = async (client: pg.ClientBase): Promise<T> => {
      if (signal.aborted) throw stopped(signal);
      await client.query('begin transaction read only');
      for (const setting of SESSION_SETTINGS) await client.query(setting);
      await client.query(`set local statement_timeout = ${literal(`${seconds}s`)}`);
      return body(client);
    };
    try {
      return await this.warehouse.trial(lookingRole(), look, signal);
    } catch (error) {
      throw signal.aborted ? stopped(signal) : error;
    }
  }

  /** A count that may take some seconds; null where it takes longer. */
  async count(client: pg.ClientBase, { sql, values }: ParameterStatement, seconds: number): Promise<number | null> {
    await client.query('savepoint before_count');
    await client.query(`set local statement_timeout = ${literal(`${seconds}s`)}`);
    try {
      const cursor = cursorOf(client, { sql, values });
      const [row] = await cursor.read(1);
      await cursor.close();
      return Number(row![0]);
    } catch {
      await client.query('rollback to savepoint before_count');
      return null;
    } finally {
      await client.query(`set local statement_timeout = ${literal(`${TIMEOUT_SECONDS}s`)}`);
    }
  }
}

/** Why reading ended: a reason that was given, or that nobody waits for it. */
const stopped = ({ reason }: AbortSignal): Problem =>
  reason instanceof Problem ? reason : new Problem(499, 'stopped', 'The preview was stopped');
