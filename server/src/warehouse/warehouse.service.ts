import { STATE_LAYER } from './loaded.js';
import { isView } from '@ouvrage/core/language';
import { Inject, Injectable, type OnModuleDestroy, type OnModuleInit } from '@nestjs/common';
import { compileFunction, type Hashing, type Names } from '@ouvrage/core/compile';
import { fingerprints } from '@ouvrage/core/graph';
import { remadeByOwner, type Dependent, SESSION_SETTINGS, targetPlace } from '@ouvrage/core/load';
import { stagedSchema, type Environment, type Project, type ProjectFunction } from '@ouvrage/core/model';
import { ident, idents, lineColumn, qualified } from '@ouvrage/core/sql';
import net from 'node:net';
import pg from 'pg';
import { Config, ROLES, type WarehouseRole } from '../shared/config.js';
import type { StepError } from '@ouvrage/api/run';
import { logger, Problem } from '../shared/problem.js';
import { handled } from '../shared/pools.js';
import { forgetPlans } from './catalog-questions.js';
import { holding, makeLocks } from './locks.js';
import type { Clock } from './loaded.js';
import type { Loaded, Standing } from './loaded.js';
import { isDatabaseError, isOfStatement, stepError } from './sql-error.js';

/** The code of CancelRequest in the frontend/backend protocol. */
const CANCEL_REQUEST = 80877102;

/** The schema of the functions that previews in a workspace use, apart from those of its tables, which previews must not change. */
export const previewFunctions = (environment: Environment): string => stagedSchema(environment.schemaOf('functions'));

/** Values of the warehouse stay text, so that no digit is lost. */
const asText: pg.CustomTypesConfig = { getTypeParser: () => (value: unknown) => value };

/** All that a session leaves behind: settings, locks, temporary tables, cursors, plans. */
const ALL = 'discard all';
/**
 * How a connection is cleaned. On the production builder's only released SQL has run: its plans of questions to
 * the catalog, which take longer than most small loads, are kept.
 */
const CLEANED: Readonly<Record<WarehouseRole, string>> = {
  production:
    'close all; set session authorization default; reset all; unlisten *; select pg_advisory_unlock_all(); discard temp; discard sequences',
  workspace: ALL,
  reader: ALL,
  viewer: ALL,
};

const MAKING_ATTEMPTS = 10;
/** Someone else has replaced the same function in between. */
const isReplacedMeanwhile = (error: unknown): boolean =>
  isDatabaseError(error) &&
  (error.code === '23505' || error.code === '40P01' || /tuple concurrently/.test(error.message));

interface LoadedRow {
  readonly table_name: string;
  readonly fingerprint: string;
  readonly row_count: string | null;
  readonly run_id: number;
  readonly loaded_at: Date;
  readonly time: string | null;
  readonly clock_name: Clock | null;
  readonly hashed: Hashing | null;
}

/** Takes back what a connection has not committed, and gives it back; a broken one is closed. */
const takeBack = (client: pg.PoolClient): Promise<void> =>
  client.query('rollback').then(
    () => client.release(),
    (broken: Error) => client.release(broken),
  );

/** What the database does not take of a function, with its place. */
function notMade(error: unknown, project: Project, { name, path, nameRange }: ProjectFunction): unknown {
  if (!isOfStatement(error)) return error;
  const told: StepError = {
    ...stepError(error, project),
    path,
    ...lineColumn(project.files.get(path)!.text, nameRange.start),
  };
  return new Problem(422, 'query-failed', `functions.${name} cannot be created: ${told.message}`, told.hint, {
    error: told,
  });
}

/** Connections to the warehouse under its four roles, and what is in it. */
@Injectable()
export class WarehouseService implements OnModuleInit, OnModuleDestroy {
  private readonly pools: Readonly<Record<WarehouseRole, pg.Pool>>;
  private readonly prepared = new Map<string, Promise<void>>();

  constructor(@Inject(Config) config: Config) {
    const pool = (role: WarehouseRole, max: number) =>
      handled(
        new pg.Pool({ ...config.warehouse[role], max, idleTimeoutMillis: 60_000, application_name: `ouvrage ${role}` }),
      );
    this.pools = {
      production: pool('production', 12),
      workspace: pool('workspace', 12),
      reader: pool('reader', 10),
      viewer: pool('viewer', 10),
    };
  }

  async onModuleInit(): Promise<void> {
    await this.session('production', async (client) => {
      for (const sql of makeLocks(STATE_LAYER)) await client.query(sql);
    });
  }

  async onModuleDestroy(): Promise<void> {
    await Promise.all(Object.values(this.pools).map((p) => p.end()));
  }

  /** A connection of a role. What it leaves behind is cleaned away as it is given back, before anyone has it again. */
  private async connect(role: WarehouseRole): Promise<pg.PoolClient> {
    const client = await this.pools[role].connect();
    const release = client.release.bind(client);
    client.release = (broken?: Error | boolean) => {
      if (broken) return release(broken);
      client.query(CLEANED[role]).then(
        () => {
          if (CLEANED[role] === ALL) forgetPlans(client);
          release();
        },
        (error: Error) => release(error),
      );
    };
    return client;
  }

  /**
   * Does something on a connection of a role, in no transaction but its own. Nobody else gives connections back: one
   * that is given back twice may be someone else's by then, and their transaction be taken back.
   * @param signal cancels what the connection is doing
   */
  async session<T>(role: WarehouseRole, body: (client: pg.ClientBase) => Promise<T>, signal?: AbortSignal): Promise<T> {
    const client = await this.connect(role);
    const stop = () => void this.cancel(role, client);
    signal?.addEventListener('abort', stop);
    const [outcome] = await Promise.allSettled([body(client)]);
    signal?.removeEventListener('abort', stop);
    if (outcome.status === 'rejected') {
      await takeBack(client);
      throw outcome.reason;
    }
    client.release();
    return outcome.value;
  }

  /** Does something on a connection of a role whose changes are taken back whatever comes of it. */
  trial<T>(role: WarehouseRole, body: (client: pg.ClientBase) => Promise<T>, signal?: AbortSignal): Promise<T> {
    return this.session(
      role,
      async (client) => {
        const result = await body(client);
        await client.query('rollback');
        return result;
      },
      signal,
    );
  }

  /** Does something in one transaction of a role, under the settings of all transactions. */
  transaction<T>(role: WarehouseRole, body: (client: pg.ClientBase) => Promise<T>): Promise<T> {
    return this.session(role, async (client) => {
      await client.query(['begin', ...SESSION_SETTINGS].join(';\n'));
      const result = await body(client);
      await client.query('commit');
      return result;
    });
  }

  /** What was dropped of workspaces' in a swap of production is made again by the workspace builder, where that is still possible. */
  async remake(gone: readonly Dependent[]): Promise<void> {
    if (gone.length === 0) return;
    await this.transaction('workspace', async (client) => {
      for (const dependent of gone) {
        await client.query('savepoint before_remake');
        for (const sql of remadeByOwner(dependent))
          if (
            !(await client.query(sql).then(
              () => true,
              () => false,
            ))
          ) {
            await client.query('rollback to savepoint before_remake');
            break;
          }
      }
    }).catch((error: unknown) => logger.warn(error));
  }

  builder(environment: Environment): WarehouseRole {
    return environment.kind;
  }

  /** Cancels what a connection is doing, by the protocol's own request: no role needs a right for it. */
  private async cancel(role: WarehouseRole, client: pg.ClientBase): Promise<void> {
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
    // What Ouvrage remembers and the copies that it keeps are nobody's layer: a layer is read by others, and copies go.
    const taken = layers.find((l) => l === STATE_LAYER || l.startsWith(`${STATE_LAYER}~`));
    if (taken !== undefined)
      return Promise.reject(
        new Problem(409, 'schema-of-others', `Schemas named ${taken} belong to Ouvrage itself`, 'Rename the layer.'),
      );
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
    const isLent = environment.kind === 'workspace';
    const made = schemas.flatMap((schema) => [schema, stagedSchema(schema)]);
    await this.transaction('production', async (client) => {
      await client.query(holding(STATE_LAYER, 'schemas'));
      for (const schema of made) await client.query(`create schema if not exists ${ident(schema)}`);
      await this.refuseOthers(client, made, isLent);
      if (isLent) await client.query(`grant usage, create on schema ${idents(made)} to ${ident(ROLES.workspace)}`);
      const read = isLent ? [...schemas, previewFunctions(environment)] : schemas;
      if (environment.readers.length)
        await client.query(
          `grant usage on schema ${idents(read)} to ${idents([...environment.readers, ROLES.viewer])}`,
        );
    });
    const state = ident(environment.schemaOf(STATE_LAYER));
    await this.transaction(this.builder(environment), async (client) => {
      await client.query(`create table if not exists ${state}.loaded (
        table_name text primary key, fingerprint text not null, row_count bigint, run_id integer not null, loaded_at timestamptz not null default now())`);
      await client.query(
        `alter table ${state}.loaded add column if not exists load_time timestamptz, add column if not exists clock text, add column if not exists hashing text`,
      );
      await client.query(
        `create table if not exists ${state}.released (commit_id text not null, released_at timestamptz not null default now())`,
      );
      await client.query(`alter table ${state}.released add column if not exists intent jsonb`);
      if (environment.kind === 'production')
        await client.query(
          `create table if not exists ${state}.kept (run_id integer, table_name text, place_schema text not null, place_name text not null,
             loaded jsonb, kept_at timestamptz not null, primary key (run_id, table_name))`,
        );
      if (environment.readers.length === 0) return;
      await client.query(`grant select on ${state}.loaded to ${idents(environment.readers)}`);
      // What a load makes beside its table, such as a list of placeholders, is copied by workspaces like the table itself.
      await client.query(
        `alter default privileges in schema ${idents(schemas)} grant select on tables to ${idents(environment.readers)}`,
      );
    });
  }

  /** @throws Problem where a schema is somebody else's, or one of production's is open to the workspace builder */
  private async refuseOthers(client: pg.ClientBase, schemas: readonly string[], isLent: boolean): Promise<void> {
    const { rows } = await client.query<{ name: string; owner: string; ours: boolean; open: boolean }>(
      `select nspname as name, pg_get_userbyid(nspowner) as owner, nspowner = current_user::regrole as ours, has_schema_privilege($2, oid, 'create') as open
       from pg_namespace where nspname = any($1)`,
      [schemas, ROLES.workspace],
    );
    const other = rows.find((r) => !r.ours);
    if (other)
      throw new Problem(
        409,
        'schema-of-others',
        `The schema ${other.name} of the warehouse belongs to ${other.owner}, not to Ouvrage`,
        `Have its owner drop or rename it, or rename the layer.`,
      );
    const open = isLent ? undefined : rows.find((r) => r.open);
    if (open)
      throw new Problem(
        409,
        'schema-of-others',
        `The schema ${open.name} of the warehouse is lent to workspaces, so production cannot be built in it`,
        'Rename the layer, or drop the schema.',
      );
  }

  /**
   * Makes functions of an environment, one maker at a time: two that replace the same function fail.
   * @param functions each after those that it calls
   * @throws Problem that names the function that cannot be made
   */
  async makeFunctions(
    environment: Environment,
    project: Project,
    functions: readonly ProjectFunction[],
    names: Names,
  ): Promise<void> {
    if (functions.length === 0) return;
    const make = () =>
      this.transaction(this.builder(environment), async (client) => {
        if (environment.kind === 'production') await client.query(holding(STATE_LAYER, 'functions'));
        for (const f of functions) {
          await client.query(compileFunction(project, f, names)).catch((error: unknown) => {
            throw isReplacedMeanwhile(error) ? error : notMade(error, project, f);
          });
        }
      });
    for (let attempt = 1; ; attempt++) {
      try {
        return await make();
      } catch (error) {
        if (!isReplacedMeanwhile(error) || attempt === MAKING_ATTEMPTS) throw error;
        await new Promise((resolve) => setTimeout(resolve, 20 * attempt));
      }
    }
  }

  /** What an environment holds; empty before anything was built. */
  async loaded(environment: Environment): Promise<Map<string, Loaded>> {
    const place = { schema: environment.schemaOf(STATE_LAYER), name: 'loaded' };
    const found = await this.session(this.builder(environment), async (client) => {
      const { rows } = await client.query<{ there: boolean }>(`select to_regclass($1) is not null as there`, [
        qualified(place),
      ]);
      if (!rows[0]?.there) return [];
      // Written before loads had a time of their own, it has no columns for it.
      return (
        await client.query<LoadedRow>(
          `select l.*, to_jsonb(l) ->> 'load_time' as time, to_jsonb(l) ->> 'clock' as clock_name, to_jsonb(l) ->> 'hashing' as hashed from ${qualified(place)} as l`,
        )
      ).rows;
    });
    return new Map(
      found.map((r) => [
        r.table_name,
        {
          fingerprint: r.fingerprint,
          rows: r.row_count,
          runId: r.run_id,
          at: r.loaded_at.toISOString(),
          ...(r.time === null ? {} : { loadTime: r.time }),
          ...(r.clock_name === null ? {} : { clock: r.clock_name }),
          ...(r.hashed === null ? {} : { hashing: r.hashed }),
        },
      ]),
    );
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
        if (table.kind === 'definition' && isView(table)) views.push(table.fullName);
      } else if (released && table.kind === 'source') {
        result.set(table.fullName, { where: 'production', place: targetPlace(production, table), loaded: released });
      } else result.set(table.fullName, { where: 'nowhere' });
    }
    for (const gone of await this.gone(environment, views, result)) result.set(gone, { where: 'nowhere' });
    return result;
  }

  /** Views of a workspace that are not there any more: a release has changed what they read. */
  private async gone(
    environment: Environment,
    views: readonly string[],
    standings: ReadonlyMap<string, Standing>,
  ): Promise<string[]> {
    if (environment.kind === 'production' || views.length === 0) return [];
    const places = views.map((name) => qualified(standings.get(name)!.place!));
    const { rows } = await this.session(this.builder(environment), (client) =>
      client.query<{ n: string }>(
        `select n::text from unnest($1::text[]) with ordinality as p (place, n) where to_regclass(place) is null`,
        [places],
      ),
    );
    return rows.map(({ n }) => views[Number(n) - 1]!);
  }

  /**
   * Drops all schemas of a workspace, those of layers that it had once, too: those that are lent to the workspace
   * builder, which none of production's ever is, whatever its name.
   * @param prefix what their names begin with
   * @param others prefixes of other workspaces, which may begin with the same
   */
  async dropSchemas(prefix: string, others: readonly string[]): Promise<void> {
    const longer = others.filter((p) => p.startsWith(`${prefix}_`));
    const isOwn = (schema: string) => !longer.some((p) => schema.startsWith(`${p}_`));
    await this.session('production', async (client) => {
      const { rows } = await client.query<{ name: string }>(
        `select nspname as name from pg_namespace where starts_with(nspname, $1) and nspowner = current_user::regrole and has_schema_privilege($2, oid, 'create') order by 1`,
        [`${prefix}_`, ROLES.workspace],
      );
      for (const { name } of rows.filter((r) => isOwn(r.name)))
        await client.query(`drop schema ${ident(name)} cascade`);
    });
    this.prepared.clear();
  }

  readonly types = asText;
}
