import pg from 'pg';
import { besideSchema, ident, loadParser } from '@ouvrage/core';
import { Config } from './shared/config.js';

/** A repeatable source of whole numbers below a bound (a linear congruence). */
export function random(seed: number): (below: number) => number {
  let state = (Math.imul(seed, 2654435761) + 12345) >>> 0;
  return (below) => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

/** A connection of the production builder whose values are text, in a schema of its own, with one beside it for tables that are written anew. */
export async function scratchSchema(schema: string): Promise<{ client: pg.Client; close: () => Promise<void> }> {
  await loadParser();
  const client = new pg.Client({
    ...Config.fromEnvironment().warehouse.production,
    types: { getTypeParser: () => (v: string) => v } as unknown as pg.CustomTypesConfig,
  });
  await client.connect();
  const schemas = `${schema}, ${ident(besideSchema(schema))}`;
  await client.query(
    `drop schema if exists ${schemas} cascade; create schema ${schema}; create schema ${ident(besideSchema(schema))}; set search_path = ${schema}; set timezone = 'UTC'; set synchronous_commit = off`,
  );
  return {
    client,
    close: async () => {
      await client.query(`drop schema ${schemas} cascade`);
      await client.end();
    },
  };
}

/** One more connection like it. */
export async function connectTo(schema: string): Promise<pg.Client> {
  const client = new pg.Client({
    ...Config.fromEnvironment().warehouse.production,
    types: { getTypeParser: () => (v: string) => v } as unknown as pg.CustomTypesConfig,
  });
  await client.connect();
  await client.query(`set search_path = ${schema}; set timezone = 'UTC'; set synchronous_commit = off`);
  return client;
}
