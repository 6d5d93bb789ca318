import { Inject, Injectable, type OnModuleDestroy } from '@nestjs/common';
import {
  besideSchema,
  compileFunction,
  fingerprints,
  ident,
  idents,
  lineColumn,
  literal,
  qualified,
  SESSION_SETTINGS,
  targetPlace,
  type Environment,
  type Names,
  type Place,
  type Project,
  type ProjectFunction,
} from '@ouvrage/core';
import net from 'node:net';
import pg from 'pg';
import { Config, type WarehouseRole } from '../shared/config.js';
import type { StepError } from '../run/run.entities.js';
import { logger, Problem } from '../shared/problem.js';
import { isDatabaseError, stepError } from './sql-error.js';

/** What the last successful load of a table was. */
export interface Loaded {
  readonly fingerprint: string;
  readonly rows: string | null;
  readonly runId: number;
  readonly at: string;
}

/** The schema beside a layer's where an environment remembers what it holds. */
export const STATE_LAYER = 'ouvrage';

/** Where a table can be read: built here, taken from production, or nowhere yet. */
export interface Standing {
  readonly where: 'here' | 'production' | 'nowhere';
  readonly place?: Place;
  readonly loaded?: Loaded;
}

/** The code of CancelRequest in the frontend/backend protocol. */
const CANCEL_REQUEST = 80877102;

/** The schema of the functions that previews in a workspace use, apart from those of its tables, which previews must not change. */
export const previewFunctions = (environment: Environment): string => besideSchema(environment.schemaOf('functions'));

/** Values of the warehouse stay text, so that no digit is lost. */
const asText: pg.CustomTypesConfig = { getTypeParser: () => (value: unknown) => value };

/** Takes back what a connection has not committed, and gives it back; a broken one is closed. */
export const takeBack = (client: pg.PoolClient): Promise<void> =>
  client.query('rollback').then(
    () => client.release(),
    (broken: Error) => client.release(broken),
  );

/** What the database does not take of a function, with its place. */
function notMade(error: unknown, project: Project, { name, path, nameRange }: ProjectFunction): unknown {
  if (!isDatabaseError(error)) return error;
  const told: StepError = { ...stepError(error, project), path, ...lineColumn(project.files.get(path)!.text, nameRange.start) };
  return new Problem(422, 'query-failed', `functions.${name} cannot be made: ${told.message}`, told.hint, { error: told });
}

/** Connections to the warehouse under its three roles, and what is in it. */
@Injectable()
export class WarehouseService implements OnModuleDestroy {
  private readonly pools: Readonly<Record<WarehouseRole, pg.Pool>>;
  private readonly prepared = new Map<string, Promise<void>>();

  constructor(@Inject(Config) config: Config) {
    const pool = (role: WarehouseRole, max: number) => {
      const made = new pg.Pool({ ...config.warehouse[role], max, idleTimeoutMillis: 60_000, application_name: `ouvrage ${role}` });
      made.on('error', (error) => logger.warn(error));
      return made;
    };
    this.pools = { production: pool('production', 12), workspace: pool('workspace', 12), reader: pool('reader', 10) };
  }

  async onModuleDestroy(): Promise<void> {
    await Promise.all(Object.values(this.pools).map((p) => p.end()));
  }

  connect(role: WarehouseRole): Promise<pg.PoolClient> {
    return this.pools[role].connect();
  }

  builder(environment: Environment): WarehouseRole {
    return environment.kind;
  }

  /** Cancels what a connection is doing, by the protocol's own request: no role needs a right for it. */
  async cancel(role: WarehouseRole, client: pg.PoolClient): Promise<void> {
    const { processID, secretKey } = client as unknown as { processID: number; secretKey: number };
    const message = Buffer.alloc(16);
    [16, CANCEL_REQUEST, processID, secretKey].forEach((n, i) => message.writeInt32BE(n, i * 4));
    const { host, port } = this.pools[role].options;
    await new Promise<void>((resolve) => {
      const socket = net.connect(port ?? 5432, host ?? '127.0.0.1', () => socket.end(message));
      socket.once('close', () => resolve());
      socket.once('error', () => resolve());
    });
  }

  /** Schemas of an environment's layers, those beside them, and its memory; made once. */
  prepare(environment: Environment, layers: readonly string[]): Promise<void> {
    const schemas = [...layers, 'functions', STATE_LAYER].map((l) => environment.schemaOf(l));
    const key = schemas.join();
    let done = this.prepared.get(key);
    if (!done) {
      done = this.makeSchemas(environment, schemas).catch((error: unknown) => {
        this.prepared.delete(key);
        throw error;
      });
      this.prepared.set(key, done);
    }
    return done;
  }

  private async makeSchemas(environment: Environment, schemas: readonly string[]): Promise<void> {
    const client = await this.connect(this.builder(environment));
    try {
      await client.query('begin');
      await client.query(`select pg_advisory_xact_lock(hashtext('ouvrage schemas'))`);
      for (const schema of schemas) {
        await client.query(`create schema if not exists ${ident(schema)}`);
        await client.query(`create schema if not exists ${ident(besideSchema(schema))}`);
        if (environment.readers.length) await client.query(`grant usage on schema ${ident(schema)} to ${idents(environment.readers)}`);
      }
      const ofPreviews = ident(previewFunctions(environment));
      if (environment.kind === 'workspace') await client.query(`grant usage on schema ${ofPreviews} to ${idents(environment.readers)}`);
      const state = ident(environment.schemaOf(STATE_LAYER));
      await client.query(`create table if not exists ${state}.loaded (
        table_name text primary key, fingerprint text not null, row_count bigint, run_id integer not null, loaded_at timestamptz not null default now())`);
      await client.query(`create table if not exists ${state}.released (commit_id text not null, released_at timestamptz not null default now())`);
      if (environment.readers.length) await client.query(`grant select on ${state}.loaded to ${idents(environment.readers)}`);
      await client.query('commit');
    } catch (error) {
      await client.query('rollback');
      throw error;
    } finally {
      client.release();
    }
  }

  /**
   * Makes functions of an environment, one maker at a time: two that replace the same function fail.
   * @param functions each after those that it calls
   * @throws Problem that names the function that cannot be made
   */
  async makeFunctions(environment: Environment, project: Project, functions: readonly ProjectFunction[], names: Names): Promise<void> {
    if (functions.length === 0) return;
    const client = await this.connect(this.builder(environment));
    try {
      await client.query('begin');
      for (const setting of SESSION_SETTINGS) await client.query(setting);
      await client.query(`select pg_advisory_xact_lock(hashtext('ouvrage functions'))`);
      for (const f of functions) {
        await client.query(compileFunction(project, f, names)).catch((error: unknown) => {
          throw notMade(error, project, f);
        });
      }
      await client.query('commit');
      client.release();
    } catch (error) {
      await takeBack(client);
      throw error;
    }
  }

  /** What an environment holds; empty before anything was built. */
  async loaded(environment: Environment): Promise<Map<string, Loaded>> {
    const place = { schema: environment.schemaOf(STATE_LAYER), name: 'loaded' };
    const { rows } = await this.pools[this.builder(environment)].query<{ there: boolean }>(`select to_regclass($1) is not null as there`, [qualified(place)]);
    if (!rows[0]?.there) return new Map();
    const found = await this.pools[this.builder(environment)].query<{
      table_name: string;
      fingerprint: string;
      row_count: string | null;
      run_id: number;
      loaded_at: Date;
    }>(`select * from ${qualified(place)}`);
    return new Map(found.rows.map((r) => [r.table_name, { fingerprint: r.fingerprint, rows: r.row_count, runId: r.run_id, at: r.loaded_at.toISOString() }]));
  }

  /** The statement that remembers a load, for the transaction that makes it visible. */
  remembering(environment: Environment, table: string, fingerprint: string, rows: string | null, runId: number): string {
    const place = qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'loaded' });
    const values = [literal(table), literal(fingerprint), rows === null ? 'null' : String(BigInt(rows)), String(Math.trunc(runId))];
    return `insert into ${place} (table_name, fingerprint, row_count, run_id) values (${values.join(', ')})
      on conflict (table_name) do update set fingerprint = excluded.fingerprint, row_count = excluded.row_count, run_id = excluded.run_id, loaded_at = now()`;
  }

  /** Forgets tables that were dropped. */
  async forget(client: pg.PoolClient, environment: Environment, tables: readonly string[]): Promise<void> {
    const place = qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'loaded' });
    await client.query(`delete from ${place} where table_name = any($1)`, [tables]);
  }

  /** The commit that production's tables were last released from, if any was. */
  async releasedCommit(environment: Environment): Promise<string | undefined> {
    const { rows } = await this.pools.production.query<{ commit_id: string }>(
      `select commit_id from ${qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'released' })}`,
    );
    return rows[0]?.commit_id;
  }

  async rememberRelease(client: pg.PoolClient, environment: Environment, commit: string): Promise<void> {
    const place = qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'released' });
    await client.query(`delete from ${place}`);
    await client.query(`insert into ${place} (commit_id) values ($1)`, [commit]);
  }

  /**
   * Where each table of a project is read in an environment. In a workspace a table with
   * production's fingerprint is production's own; landing tables are production's unless the
   * workspace brought in its own.
   */
  async standings(project: Project, environment: Environment, production: Environment): Promise<Map<string, Standing>> {
    const here = await this.loaded(environment);
    const there = environment.kind === 'production' ? here : await this.loaded(production);
    const prints = fingerprints(project);
    const result = new Map<string, Standing>();
    const views: string[] = [];
    for (const table of project.tables.values()) {
      const print = prints.get(table.fullName);
      const own = here.get(table.fullName);
      const released = there.get(table.fullName);
      if (released && (released.fingerprint === print || environment.kind === 'production')) {
        result.set(table.fullName, { where: 'production', place: targetPlace(production, table), loaded: released });
      } else if (own?.fingerprint === print) {
        result.set(table.fullName, { where: 'here', place: targetPlace(environment, table), loaded: own });
        if (table.kind === 'definition' && table.policy === 'view') views.push(table.fullName);
      } else if (released && table.kind === 'source') {
        result.set(table.fullName, { where: 'production', place: targetPlace(production, table), loaded: released });
      } else result.set(table.fullName, { where: 'nowhere' });
    }
    for (const gone of await this.gone(environment, views, result)) result.set(gone, { where: 'nowhere' });
    return result;
  }

  /** Views of a workspace that are not there any more: a release has changed what they read. */
  private async gone(environment: Environment, views: readonly string[], standings: ReadonlyMap<string, Standing>): Promise<string[]> {
    if (environment.kind === 'production' || views.length === 0) return [];
    const places = views.map((name) => qualified(standings.get(name)!.place!));
    const { rows } = await this.pools[this.builder(environment)].query<{ n: string }>(
      `select n::text from unnest($1::text[]) with ordinality as p (place, n) where to_regclass(place) is null`,
      [places],
    );
    return rows.map(({ n }) => views[Number(n) - 1]!);
  }

  /** Drops the schemas of a workspace. */
  async dropSchemas(environment: Environment, layers: readonly string[]): Promise<void> {
    const client = await this.connect(this.builder(environment));
    try {
      for (const schema of [...layers, 'functions', STATE_LAYER].map((l) => environment.schemaOf(l))) {
        await client.query(`drop schema if exists ${ident(schema)}, ${ident(besideSchema(schema))} cascade`);
      }
      this.prepared.clear();
    } finally {
      client.release();
    }
  }

  readonly types = asText;
}
