import { DEPENDENTS_SQL, OLD_SQL } from '@ouvrage/core/load';
import type { Place } from '@ouvrage/core/model';
import { literal } from '@ouvrage/core/sql';
import type pg from 'pg';

/** Questions to the catalog, planned once a connection: planning them takes longer than answering them. */
const CATALOG = { old_relations: OLD_SQL, dependents: DEPENDENTS_SQL } as const;
/** Connections that have planned them. */
const asked = new WeakSet<pg.ClientBase>();

/**
 * How the questions are planned. One plan serves them all: how many places there are hardly matters to it. It asks
 * indexes only: a catalog that is small when its plan is made has grown many times over, dead rows included, after
 * some loads, and few of its rows are ever asked for.
 */
const PLANNING = { plan_cache_mode: 'force_generic_plan', enable_seqscan: 'off' };

/** Questions to the catalog about places, as statements of one message. */
export function questions(names: readonly (keyof typeof CATALOG)[], places: readonly Place[]): string[] {
  const list = (of: readonly string[]) => `array[${of.map((n) => literal(n)).join(', ')}]::text[]`;
  const [schemas, relations] = [list(places.map((p) => p.schema)), list(places.map((p) => p.name))];
  return [
    ...Object.entries(PLANNING).map(([name, value]) => `set local ${name} = ${value}`),
    ...names.map((name) => `execute ${name}(${schemas}, ${relations})`),
    ...Object.keys(PLANNING).map((name) => `set local ${name} to default`),
  ];
}

/** @returns the rows that the questions gave, in their order, where they ended a message */
export const answersTo = (names: readonly (keyof typeof CATALOG)[], results: readonly pg.QueryResult[]): unknown[][] =>
  results
    .slice(results.length - Object.keys(PLANNING).length - names.length)
    .slice(0, names.length)
    .map((r) => r.rows as unknown[]);

/** A connection's plans are gone. */
export const forgetPlans = (client: pg.ClientBase): boolean => asked.delete(client);

/** Has a connection plan the questions, unless it has done so. */
export async function planCatalog(client: pg.ClientBase): Promise<void> {
  if (asked.has(client)) return;
  const { rows } = await client.query<{ name: string }>('select name from pg_prepared_statements');
  const missing = Object.entries(CATALOG).filter(([name]) => !rows.some((r) => r.name === name));
  if (missing.length)
    await client.query(missing.map(([name, text]) => `prepare ${name} (text[], text[]) as ${text}`).join(';\n'));
  asked.add(client);
}
