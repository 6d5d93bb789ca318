import { DEPENDENTS_SQL, literal, OLD_SQL, type Place } from '@ouvrage/core';
import type pg from 'pg';

/** Questions to the catalog, planned once a connection: planning them takes longer than answering them. */
const CATALOG = { old_relations: OLD_SQL, dependents: DEPENDENTS_SQL } as const;
/** Connections that have planned them. */
const asked = new WeakSet<pg.PoolClient>();

/**
 * Questions to the catalog about places, as statements of one message. One plan serves them all: how many places
 * there are hardly matters to it.
 */
export function questions(names: readonly (keyof typeof CATALOG)[], places: readonly Place[]): string[] {
  const list = (of: readonly string[]) => `array[${of.map((n) => literal(n).trim()).join(', ')}]::text[]`;
  const [schemas, relations] = [list(places.map((p) => p.schema)), list(places.map((p) => p.name))];
  return [
    'set local plan_cache_mode = force_generic_plan',
    ...names.map((name) => `execute ${name}(${schemas}, ${relations})`),
    'set local plan_cache_mode to default',
  ];
}

/** Has a connection plan the questions, unless it has done so. */
export async function planCatalog(client: pg.PoolClient): Promise<void> {
  if (asked.has(client)) return;
  const { rows } = await client.query<{ name: string }>('select name from pg_prepared_statements');
  const missing = Object.entries(CATALOG).filter(([name]) => !rows.some((r) => r.name === name));
  if (missing.length) await client.query(missing.map(([name, text]) => `prepare ${name} (text[], text[]) as ${text}`).join(';\n'));
  asked.add(client);
}
