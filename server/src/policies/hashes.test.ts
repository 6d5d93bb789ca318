import { expect, test } from '@jest/globals';
import { hashOf } from '@ouvrage/core/compile';
import { scratch } from '../testing-sql.js';

/** Hashes agree with the database's equality. */
const client = scratch('hashes_test');

const CASES: readonly (readonly [type: string, a: string, b: string, isEqual: boolean])[] = [
  ['numeric', '1.0', '1.00', true],
  ['numeric', '1', '1.01', false],
  ['numeric', 'NaN', 'NaN', true],
  ['numeric(12,2)', '100', '100.00', true],
  ['numeric(12,2)', '100', '1', false],
  ['double precision', '-0', '0', true],
  ['double precision', '0.1', '0.10000000000000002', false],
  ['double precision', 'NaN', 'NaN', true],
  ['real', '-0', '0', true],
  ['real', '0.1', '0.2', false],
  ['interval', '1 mon', '30 days', true],
  ['interval', '24 hours', '1 day', true],
  ['interval', '1 day', '1 day 00:00:01', false],
  ['jsonb', '{"a": 1.0}', '{"a": 1.00}', true],
  ['jsonb', '{"a": 1, "b": 2}', '{"b": 2, "a": 1}', true],
  ['jsonb', '{"a": 1}', '{"a": 2}', false],
  ['json', '{"a":1.0}', '{"a": 1.00}', true],
  ['numeric[]', '{1.0,2}', '{1.00,2.0}', true],
  ['numeric[]', '{1,2}', '{2,1}', false],
  ['text[]', '{NULL}', '{"NULL"}', false],
  ['numrange', '[1.0,2)', '[1.00,2.0)', true],
  ['int4range', '[1,3]', '[1,4)', true],
  ['character(4)', 'a', 'a  ', true],
  ['text', 'a', 'a ', false],
  ['text', '', ' ', false],
  ['timestamptz', '2026-03-01 00:00+00', '2026-03-01 01:00+01', true],
  ['uuid', '00000000000000000000000000000001', '00000000-0000-0000-0000-000000000001', true],
  ['bit(3)', '001', '010', false],
  ['tsvector', 'a b', 'b a', true],
  ['inet', '10.0.0.1', '10.0.0.1/32', true],
];

test.each(CASES)('%s: %s and %s: %s', async (type, a, b, isEqual) => {
  const hash = (value: string) => hashOf([{ value: `'${value}'::${type}`, type }]);
  const { rows } = await client.query<Record<string, string>>(`select ${hash(a)} as a, ${hash(b)} as b`);
  expect(rows[0]!['a'] === rows[0]!['b']).toBe(isEqual);
});

test('parts are distinguished, and null from what is empty', async () => {
  const list = (...values: (string | null)[]) =>
    hashOf(
      values.map((v) => ({
        value: v === null ? 'null::interval' : `'${v}'::text`,
        type: v === null ? 'interval' : 'text',
      })),
    );
  const texts = [
    list('a', 'b'),
    list('ab', ''),
    list('', 'ab'),
    list('a', null),
    list(null, 'a'),
    list(null, null),
    list('', ''),
  ];
  const { rows } = await client.query<{ n: string }>(
    `select count(distinct h) as n from (values ${texts.map((t) => `(${t})`).join(', ')}) as v (h)`,
  );
  expect(Number(rows[0]!.n)).toBe(texts.length);
});
