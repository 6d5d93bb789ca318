import { ident, literal } from '@ouvrage/core/sql';

/** What is done by one at a time in production's part of the warehouse. */
const LOCKS = ['schemas', 'functions', 'swap'] as const;
export type Lock = (typeof LOCKS)[number];

/**
 * Locks are rows of a table that neither the reader nor the workspace builder can reach: an advisory lock
 * could be taken by anybody's query.
 */
export const makeLocks = (schema: string): string[] => [
  `create schema if not exists ${ident(schema)}`,
  `create table if not exists ${ident(schema)}.lock (name text primary key)`,
  `insert into ${ident(schema)}.lock values ${LOCKS.map((l) => `(${literal(l)})`).join(', ')} on conflict do nothing`,
];

/** Holds a lock to the end of the transaction. */
export const holding = (schema: string, lock: Lock): string =>
  `select from ${ident(schema)}.lock where name = ${literal(lock)} for update`;
