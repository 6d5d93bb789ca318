import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { besideSchema } from '@ouvrage/core';
import pg from 'pg';
import { Config } from '../shared/config.js';
import { connectTo, scratchSchema } from '../testing-sql.js';
import { Loader } from './loader.js';

const SCHEMA = 'swap_test';
const BESIDE = besideSchema(SCHEMA);
let client: pg.Client;
let other: pg.Client;
let close: () => Promise<void>;

beforeAll(async () => {
  const scratch = await scratchSchema(SCHEMA);
  client = new pg.Client(Config.fromEnvironment().warehouse.production);
  await client.connect();
  other = await connectTo(SCHEMA);
  close = async () => {
    await Promise.all([client.end(), other.end()]);
    await scratch.close();
  };
});
afterAll(() => close());

const T = `"${SCHEMA}".t`;
/** A table, and its next state beside. */
const twoStates = () => client.query(`drop table if exists ${T} cascade; create table ${T} as select 1 as n; create table "${BESIDE}".t as select 2 as n`);

async function swap(connection: pg.PoolClient): Promise<void> {
  const loader = new Loader(connection);
  loader.begin();
  await loader.swaps.swap([{ target: { schema: SCHEMA, name: 't' }, beside: { schema: BESIDE, name: 't' }, relation: 'table' }]);
  await loader.conclude(['commit']);
}

/** The connection; once it has answered a question about what reads the table, `then` happens before the answer is seen. */
function answering(then: () => Promise<unknown>): pg.PoolClient {
  let answered = false;
  const query = async (...given: [string]) => {
    const result = await client.query(...given);
    if (!answered && String(given[0]).includes('execute dependents')) {
      answered = true;
      await then();
    }
    return result;
  };
  return new Proxy(client, { get: (of, name) => (name === 'query' ? query : Reflect.get(of, name)) }) as unknown as pg.PoolClient;
}

test.each<[string, string, string]>([
  ['a view that comes to read the table meanwhile', 'create view reads as select n + 1 as n from t', 'select n::text from reads'],
  [
    'a function that comes to return its rows',
    "create function reads() returns setof t language sql as 'select * from t'",
    'select (n + 1)::text as n from reads()',
  ],
])('%s is made again over the new table', async (_, made, asked) => {
  await twoStates();
  await swap(answering(() => other.query(made)));
  expect((await other.query(asked)).rows).toEqual([{ n: '3' }]);
});
