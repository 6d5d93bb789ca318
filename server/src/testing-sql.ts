import { afterAll, beforeAll } from '@jest/globals';
import { stagedSchema } from '@ouvrage/core/model';
import { ident, loadParser } from '@ouvrage/core/sql';
import pg from 'pg';
import { Config } from './shared/config.js';

/** A repeatable source of whole numbers below a bound (a linear congruence). */
export function random(seed: number): (below: number) => number {
  let state = (Math.imul(seed, 2654435761) + 12345) >>> 0;
  return (below) => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

/** A connection of the production builder, not yet open, whose values are text. */
const asBuilder = (): pg.Client =>
  new pg.Client({
    ...Config.fromEnvironment().warehouse.production,
    types: { getTypeParser: () => (v: string) => v } as unknown as pg.CustomTypesConfig,
  });

const settle = (schema: string): string =>
  `set search_path = ${schema}; set timezone = 'UTC'; set synchronous_commit = off`;

/**
 * A connection for the tests of a file, in a schema of its own with one beside it for tables that are rewritten.
 * It is there from the first test to the last; core's parser is loaded, too.
 */
export function scratch(schema: string): pg.Client {
  const client = asBuilder();
  const schemas = `${schema}, ${ident(stagedSchema(schema))}`;
  beforeAll(async () => {
    await loadParser();
    await client.connect();
    await client.query(
      `drop schema if exists ${schemas} cascade; create schema ${schema}; create schema ${ident(stagedSchema(schema))}; ${settle(schema)}`,
    );
  });
  afterAll(async () => {
    await client.query(`drop schema ${schemas} cascade`);
    await client.end();
  });
  return client;
}

/** One more connection like it. */
export async function connectTo(schema: string): Promise<pg.Client> {
  const client = asBuilder();
  await client.connect();
  await client.query(settle(schema));
  return client;
}
