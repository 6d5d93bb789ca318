import { readFileSync } from 'node:fs';
import { describe, expect, test } from '@jest/globals';
import { readProject } from '@ouvrage/core/resolve';
import { scratch } from '../testing-sql.js';
import { LoadStopped, loadsOf, written } from './harness.js';
import { hour, source } from './worlds.js';

/** Every line of docs/contracts.md, which says what a contract may say. */
const SCHEMA = 'contracts_table_test';
const client = scratch(SCHEMA);
const PAGE = readFileSync(new URL('../../../docs/contracts.md', import.meta.url), 'utf8');

/** The rows of the table under a heading, cell by cell. */
function linesOf(heading: string): string[][] {
  const section = PAGE.split('\n## ').find((s) => s.startsWith(heading))!;
  const rows = section.split('\n').filter((line) => line.startsWith('|'));
  return rows.slice(2).map((line) =>
    line
      .split('|')
      .slice(1, -1)
      .map((cell) => cell.trim()),
  );
}

async function fill(type: string, rows: readonly (readonly [number, string])[]): Promise<void> {
  await client.query(`drop table if exists src; create table src (k integer, v ${type})`);
  for (const [k, v] of rows) await client.query(`insert into src values ($1, $2::text::${type})`, [k, v]);
}

/** Errors of a contract, as an author sees them. */
function errorsOf(contract: string, query: string, type: string): string[] {
  const files = new Map([
    ['layers.sql', 'create schema landing; create schema core;'],
    ['core/t.sql', `create table core.t (${contract};\n${query};`],
    ...Object.entries(source(`k integer, v ${type}`)),
  ]);
  return readProject(files)
    .diagnostics.filter((d) => d.severity === 'error')
    .map((d) => `${d.message}: ${d.hint ?? ''}`);
}

const COUNT = 'select count(*)::int as n from t';
const countOf = async () => Number((await client.query<{ n: string }>(COUNT)).rows[0]!.n);

describe('a watermark', () => {
  const contract = (type: string) => `k integer, v ${type} not null) with (load = append, watermark = 'v')`;
  const query = 'select k, v from landing.src';
  const lines = linesOf('Types of a watermark');
  test.each(lines.filter(([, , , outcome]) => outcome === 'loaded'))(
    '%s, from %s to %s',
    async (type, value, greater) => {
      const loads = await loadsOf(client, SCHEMA, contract(type!), query, source(`k integer, v ${type}`));
      await loads.reset();
      const counts: number[] = [];
      for (const rows of [
        [],
        [[1, value]],
        [[1, value]],
        [
          [1, value],
          [2, greater],
        ],
        [
          [1, value],
          [2, greater],
        ],
      ] as [number, string][][]) {
        await fill(type!, rows);
        await loads.load(hour(counts.length));
        counts.push(await countOf());
      }
      expect(counts).toEqual([0, 1, 1, 2, 2]);
    },
  );
  test.each(lines.filter(([, , , outcome]) => outcome === 'refused'))('%s is refused', (type) => {
    expect(errorsOf(contract(type!), query, type!)).toEqual([
      `option watermark: values of type ${type} have no greatest one: choose a time or a number that grows`,
    ]);
  });
  test.each([
    ['timestamptz', 'infinity'],
    ['date', 'infinity'],
    ['numeric', 'NaN'],
    ['numeric', 'Infinity'],
    ['double precision', 'NaN'],
    ['real', 'Infinity'],
  ])('%s %s stops the load', async (type, endless) => {
    const loads = await loadsOf(client, SCHEMA, contract(type), query, source(`k integer, v ${type}`));
    await loads.reset();
    await fill(type, [[1, endless]]);
    await expect(loads.load(hour(0))).rejects.toThrow(LoadStopped);
    expect(await countOf()).toBe(0);
  });
  test.each([
    ['date', '2026-01-05', '2026-01-03', '36 hours', 1],
    ['timestamptz', '2026-01-05 00:00+00', '2026-01-03 13:00+00', '36 hours', 2],
    ['interval', '3 days', '50 hours', '1 day', 2],
    ['integer', '100', '91', '10', 2],
    ['numeric', '1', '0.6', '0.5', 2],
    ['smallint', '5', '4', '0.5', 1],
  ])('%s goes back from %s to %s within %s', async (type, greatest, late, back, expected) => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      `k integer, v ${type} not null) with (load = append, watermark = 'v', business_key = 'k', look_back = '${back}')`,
      query,
      source(`k integer, v ${type}`),
    );
    await loads.reset();
    await fill(type, [[1, greatest]]);
    await loads.load(hour(0));
    await fill(type, [
      [1, greatest],
      [2, late],
    ]);
    await loads.load(hour(1));
    expect(await countOf()).toBe(expected);
  });
});

describe('rows that are compared', () => {
  const valid = `, f timestamptz options (role 'valid from'), u timestamptz options (role 'valid to')`;
  const contracts = (type: string): readonly (readonly [string, string, string])[] => [
    ['merge', `k integer not null, v ${type}) with (load = merge, business_key = 'k')`, 'select k, v from landing.src'],
    [
      'history',
      `k integer not null, v ${type}${valid}) with (load = history, business_key = 'k')`,
      'select k, v from landing.src',
    ],
    [
      'events',
      `k integer not null, v ${type}${valid}) with (load = history, business_key = 'k', effective_from = 'at')`,
      `select k, v, timestamptz '2026-01-01' as at from landing.src`,
    ],
    [
      'dated',
      `k integer not null, v ${type}, d date options (role 'as of')) with (load = dated)`,
      `select k, v, date '2026-01-01' as d from landing.src`,
    ],
  ];
  const lines = linesOf('Types of columns');
  test.each(lines.filter(([, , , outcome]) => outcome === 'loaded'))('%s, %s and %s', async (type, value, other) => {
    for (const [policy, contract, query] of contracts(type!)) {
      const loads = await loadsOf(client, SCHEMA, contract, query, source(`k integer, v ${type}`));
      await client.query('drop table if exists "t~events"');
      await loads.reset();
      await fill(type!, [[1, value!]]);
      await loads.load(hour(0));
      const before = await written(client, 't');
      await loads.load(hour(1));
      expect([policy, await written(client, 't')]).toEqual([policy, before]);
      // Two events of one instant contradict each other: other policies take the other value for a change.
      if (policy === 'events') continue;
      await fill(type!, [[1, other!]]);
      await loads.load(hour(2));
      expect([policy, (await written(client, 't')) !== before]).toEqual([policy, true]);
    }
  });
  test.each(lines.filter(([, , , outcome]) => outcome === 'refused'))('%s is refused', (type) => {
    for (const [policy, contract, query] of contracts(type!))
      expect([policy, errorsOf(contract, query, type!)]).toEqual([
        policy,
        [expect.stringMatching(/^v: .*cast it to text in the query, and declare it as text$/)],
      ]);
  });
});

describe('what a contract leaves to the database', () => {
  test.each(linesOf('What PostgreSQL would do'))('%s', async (column, outcome, instead) => {
    const declared = column!.replaceAll('`', '');
    const type = declared.includes('text') ? 'text' : 'integer';
    const contract = `k integer primary key, ${declared}) with (load = merge, business_key = 'k')`;
    const query = 'select k, v from landing.src';
    if (outcome === 'refused')
      return expect(errorsOf(contract, query, type)).toEqual([
        expect.stringMatching(new RegExp(`: ${escaped(instead!)}$`)),
      ]);
    const loads = await loadsOf(client, SCHEMA, contract, query, source(`k integer, v ${type}`));
    await loads.reset();
    await fill(type, [[1, '1']]);
    await loads.load(hour(0));
    expect(await countOf()).toBe(1);
  });
});

const escaped = (text: string) => text.replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&');
