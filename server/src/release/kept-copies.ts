import { REMEMBERED, rememberedPlace } from '@ouvrage/core/compile';
import { copied, type KeptIn } from '@ouvrage/core/load';
import type { Environment, Place } from '@ouvrage/core/model';
import { ident, idents, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { currentTime } from '../shared/time.js';
import { STATE_LAYER } from '../warehouse/loaded.js';

/** What a release has replaced or dropped of one table: its rows, and what was remembered beside it. */
export interface KeptCopy {
  /** The run of the release. */
  readonly run: number;
  /** The table's name before that release. */
  readonly table: string;
  /** Where the copy is, under the names that the table and its companions had. */
  readonly place: Place;
  /** What was remembered of its last load: a row of the list of loaded tables. */
  readonly loaded: Readonly<Record<string, unknown>> | null;
  readonly at: Date;
}

/** The list of copies, in the warehouse. */
export const keptList = (environment: Environment): string =>
  qualified({ schema: environment.schemaOf(STATE_LAYER), name: 'kept' });

/** All places of a copy: the table and its companions. */
export const placesOf = (home: Place): Place[] => [home, ...REMEMBERED.map((what) => rememberedPlace(home, what))];

/** Which of some places hold a table. */
export async function tablesIn(client: pg.ClientBase, places: readonly Place[]): Promise<Place[]> {
  const { rows } = await client.query<{ n: string }>(
    `select p.n::text from unnest($1::text[], $2::text[]) with ordinality as p (schema, name, n)
     join pg_namespace s on s.nspname = p.schema join pg_class c on c.relnamespace = s.oid and c.relname = p.name and c.relkind = 'r' order by p.n`,
    [places.map((p) => p.schema), places.map((p) => p.name)],
  );
  return rows.map(({ n }) => places[Number(n) - 1]!);
}

/** Keeps what one release replaces and drops, in schemas that nobody but the builder may use. */
export class Keeping {
  private readonly schemas = new Map<string, string>();

  constructor(
    private readonly client: pg.ClientBase,
    private readonly environment: Environment,
    private readonly run: number,
  ) {}

  /** Where tables of a schema are kept; for those that have been prepared. */
  readonly keptIn: KeptIn = ({ schema }) => this.schemas.get(schema);

  /** Makes the schema that keeps tables of another one. */
  private async schemaFor(home: string): Promise<string> {
    const known = this.schemas.get(home);
    if (known !== undefined) return known;
    for (let n = this.schemas.size + 1; ; n++) {
      const name = `${this.environment.schemaOf(STATE_LAYER)}~kept_${this.run}_${n}`;
      const { rowCount } = await this.client.query('select from pg_namespace where nspname = $1', [name]);
      if (rowCount) continue;
      await this.client.query(`create schema ${ident(name)}`);
      this.schemas.set(home, name);
      return name;
    }
  }

  /** Copies what is remembered beside a table that stays under its name: the release's load changes it where it is. */
  async copyRemembered(home: Place): Promise<void> {
    const [, ...companions] = placesOf(home);
    const there = await tablesIn(this.client, companions);
    if (there.length === 0) return;
    const schema = await this.schemaFor(home.schema);
    for (const place of there) for (const sql of copied(place, schema)) await this.client.query(sql);
  }

  /** Moves what is remembered beside a table away, so that something else may come there. */
  async moveRemembered(home: Place): Promise<void> {
    const [, ...companions] = placesOf(home);
    for (const place of await tablesIn(this.client, companions))
      await this.client.query(`alter table ${qualified(place)} set schema ${ident(await this.schemaFor(home.schema))}`);
  }

  /** Makes the schemas for the tables that a swap replaces or drops, and lists them, with what is known of their last loads. */
  async list(tables: readonly { readonly table: string; readonly place: Place }[]): Promise<void> {
    const loaded = qualified({ schema: this.environment.schemaOf(STATE_LAYER), name: 'loaded' });
    const there = await tablesIn(
      this.client,
      tables.map((t) => t.place),
    );
    for (const { table, place } of tables.filter((t) => there.includes(t.place))) {
      const schema = await this.schemaFor(place.schema);
      await this.client.query(
        `insert into ${keptList(this.environment)} (run_id, table_name, place_schema, place_name, loaded, kept_at)
         select $1, $2, $3, $4, (select to_jsonb(l) from ${loaded} as l where l.table_name = $2), $5`,
        [this.run, table, schema, place.name, currentTime()],
      );
    }
  }
}

/** The copies that some releases have kept of each table, the oldest first, as far as they are there. */
export async function copiesOf(
  client: pg.ClientBase,
  environment: Environment,
  runs: readonly number[],
): Promise<Map<string, readonly KeptCopy[]>> {
  const { rows } = await client.query<{
    run: number;
    table: string;
    schema: string;
    name: string;
    loaded: Record<string, unknown> | null;
    at: Date;
  }>(
    `select run_id as run, table_name as table, place_schema as schema, place_name as name, loaded, kept_at as at
     from ${keptList(environment)} where run_id = any($1) order by table_name, run_id`,
    [runs],
  );
  const copies = rows.map(({ schema, name, ...rest }): KeptCopy => ({ ...rest, place: { schema, name } }));
  const there = await tablesIn(
    client,
    copies.map((c) => c.place),
  );
  const found = new Map<string, KeptCopy[]>();
  for (const copy of copies.filter((c) => there.includes(c.place)))
    found.set(copy.table, [...(found.get(copy.table) ?? []), copy]);
  return found;
}

/** Puts a copy beside its table's place, and what was remembered beside it into its place. Numbers never go back: the greatest that were given stay known. */
export class PuttingBack {
  constructor(
    private readonly client: pg.ClientBase,
    private readonly environment: Environment,
    private readonly keeping: Keeping | undefined,
  ) {}

  /**
   * @param copy what is put back
   * @param to where it comes: the table's place and that beside it; and where the table was last
   * @returns the statements that ran
   */
  async put(
    copy: KeptCopy,
    to: { readonly target: Place; readonly staged: Place; readonly last: Place },
  ): Promise<string[]> {
    const { readers } = this.environment;
    const ran: string[] = [];
    const run = async (sql: string) => {
      await this.client.query(sql);
      ran.push(sql);
    };
    await this.keepLast(copy.place, to.last, run);
    const [, ...companions] = placesOf(to.target);
    if (this.keeping) await this.keeping.moveRemembered(to.target);
    else for (const place of await tablesIn(this.client, companions)) await run(`drop table ${qualified(place)}`);
    for (const place of await tablesIn(this.client, placesOf(copy.place))) {
      const schema = place.name === copy.place.name ? to.staged.schema : to.target.schema;
      await run(`alter table ${qualified(place)} set schema ${ident(schema)}`);
      // As whatever is made there, it can be read by who reads all.
      if (readers.length) await run(`grant select on ${qualified({ schema, name: place.name })} to ${idents(readers)}`);
    }
    await this.client.query(`delete from ${keptList(this.environment)} where run_id = $1 and table_name = $2`, [
      copy.run,
      copy.table,
    ]);
    return ran;
  }

  private async keepLast(kept: Place, last: Place, run: (sql: string) => Promise<void>): Promise<void> {
    const [from, into] = [rememberedPlace(last, 'last'), rememberedPlace(kept, 'last')];
    const there = await tablesIn(this.client, [from, into]);
    if (!there.includes(from) || qualified(from) === qualified(into)) return;
    if (!there.includes(into)) await run(`create table ${qualified(into)} (like ${qualified(from)} including all)`);
    await run(
      `insert into ${qualified(into)} as l (map, number) select map, number from ${qualified(from)}
       on conflict (map) do update set number = greatest(l.number, excluded.number)`,
    );
  }

  /** Remembers again what was known of a table's last load. */
  async remember({ table, loaded }: KeptCopy): Promise<void> {
    const place = qualified({ schema: this.environment.schemaOf(STATE_LAYER), name: 'loaded' });
    await this.client.query(`delete from ${place} where table_name = $1`, [table]);
    if (loaded)
      await this.client.query(`insert into ${place} select (jsonb_populate_record(null::${place}, $1)).*`, [loaded]);
  }
}

/** Drops schemas of copies that nothing is listed in any more. */
export async function dropEmpty(
  client: pg.ClientBase,
  environment: Environment,
  schemas: Iterable<string>,
): Promise<void> {
  for (const schema of new Set(schemas)) {
    const { rowCount } = await client.query(`select from ${keptList(environment)} where place_schema = $1 limit 1`, [
      schema,
    ]);
    if (!rowCount) await client.query(`drop schema if exists ${ident(schema)} cascade`);
  }
}
