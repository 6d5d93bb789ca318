import { expect, test } from '@jest/globals';
import {
  columnFigures,
  compareRepeated,
  comparisonShape,
  countRepeated,
  countRowKinds,
  frequentChanges,
  type RowsCompared,
  rowsOfKind,
  type SharedColumn,
} from '@ouvrage/core/review';
import { random, scratch } from '../testing-sql.js';

const SCHEMA = 'row_pairs';
const client = scratch(SCHEMA);
const PAIRS = Number(process.env['OUVRAGE_PAIRS'] ?? 50);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 1);

type Value = string | null;
type Row = readonly Value[];
const ask = async (sql: string): Promise<Value[][]> =>
  (await client.query<Value[]>({ text: sql, rowMode: 'array' })).rows;

/** Columns of both versions: the types that each may have, and its values. */
const COLUMNS: readonly { name: string; types: readonly string[]; values: readonly Value[] }[] = [
  { name: 'k', types: ['integer', 'bigint', 'text'], values: ['1', '2', '3', '4', '5', '6', '7', null] },
  { name: 'Part of key', types: ['text'], values: ['a', 'b', '', null] },
  { name: 'word', types: ['text', 'varchar(20)'], values: ['x', 'y', '', null] },
  {
    name: 'amount',
    types: ['numeric(8,2)', 'numeric', 'integer', 'double precision', 'text'],
    values: ['0', '1', '2', '10', null],
  },
  { name: 'day', types: ['date', 'timestamptz'], values: ['2026-01-01', '2026-01-02', null] },
  { name: 'extra', types: ['json', 'jsonb'], values: ['{"a": 1}', '{"a":1}', '[]', null] },
  { name: 'given', types: ['bigint'], values: ['1', '2', '3'] },
];

/** The two versions of one pair, as they are made in the warehouse, and how they are compared. */
async function pairOf(pick: (below: number) => number): Promise<{ compared: RowsCompared; rows: [Row[], Row[]] }> {
  const chosen = <T>(from: readonly T[]): T => from[pick(from.length)]!;
  const isWide = pick(4) > 0;
  const columns = COLUMNS.filter((_, i) => i < 2 || isWide || pick(3) > 0);
  const types = columns.map((c) => [chosen(c.types), pick(3) === 0 ? chosen(c.types) : undefined] as const);
  const base = Array.from({ length: pick(14) }, () => columns.map((c) => chosen(c.values)));
  const changed = base.flatMap((row) => {
    const what = pick(6);
    if (what === 0) return [];
    if (what === 1) return [row, row];
    return [row.map((v, i) => (i > 1 && pick(5) === 0 ? chosen(columns[i]!.values) : v))];
  });
  const more = Array.from({ length: pick(4) }, () => columns.map((c) => chosen(c.values)));
  const rows: [Row[], Row[]] = [base, [...changed, ...more]];
  const sides = [];
  for (const [s, name] of (['before', 'after'] as const).entries()) {
    const listed = columns.map((c, i) => ({ name: c.name, type: (s === 1 && types[i]![1]) || types[i]![0] }));
    await client.query(
      `drop table if exists ${name}; create table ${name} (${listed.map((c) => `"${c.name}" ${c.type}`).join(', ')})`,
    );
    for (const row of rows[s]!)
      await client.query(`insert into ${name} values (${row.map((v) => (v === null ? 'null' : `'${v}'`)).join(', ')})`);
    for (const [i, c] of columns.entries())
      if (rows[s]!.every((row) => row[i] !== null) && pick(2) === 0)
        await client.query(`alter table ${name} alter column "${c.name}" set not null`);
    const found = await ask(
      `select attname, format_type(atttypid, atttypmod), attnotnull from pg_attribute where attrelid = '${name}'::regclass and attnum > 0 and not attisdropped order by attnum`,
    );
    sides.push({
      from: `${SCHEMA}.${name}`,
      columns: found.map(([n, type, notNull]) => ({ name: n!, type: type!, isNotNull: notNull === 't' })),
      members: new Map<string, string>(),
    });
  }
  const key = chosen([[], ['k'], ['k', 'Part of key'], ['k', 'Part of key']]);
  return { compared: { there: sides[0]!, here: sides[1]!, key, apart: ['given'], members: [] }, rows };
}

/** The rows of a version as they are compared, read by PostgreSQL and compared here. */
async function naive({ compared }: Awaited<ReturnType<typeof pairOf>>) {
  const shape = comparisonShape(compared);
  const columns = [...shape.key, ...shape.shared];
  const canonical = (c: SharedColumn, v: Value) => (v !== null && c.isNumber ? String(Number(v)) : v);
  const read = async (from: string) =>
    (
      await ask(
        `select ${columns.length > 0 ? columns.map((c) => `cast("${c.name}" as text)`).join(', ') : 'null'} from ${from}`,
      )
    ).map((row) => (columns.length > 0 ? columns.map((c, i) => canonical(c, row[i]!)) : []));
  return { shape, there: await read(compared.there.from), here: await read(compared.here.from) };
}

const text = (row: readonly unknown[]) => JSON.stringify(row);
const multiset = (rows: readonly Row[]) => {
  const counts = new Map<string, number>();
  for (const row of rows) counts.set(text(row), (counts.get(text(row)) ?? 0) + 1);
  return counts;
};
/** How many rows two multisets share. */
const shared = (a: readonly Row[], b: readonly Row[]) => {
  const other = multiset(b);
  return [...multiset(a)].reduce((sum, [row, n]) => sum + Math.min(n, other.get(row) ?? 0), 0);
};

test(`${PAIRS} pairs of tables compare as row by row`, async () => {
  const pick = random(SEED);
  const seen = { equal: 0, different: 0, repeated: 0, whole: 0, retyped: 0 };
  for (let n = 0; n < PAIRS; n++) {
    const pair = await pairOf(pick);
    const { shape, there, here } = await naive(pair);
    const of = (row: Row) => text(row.slice(0, shape.key.length));
    const counts = (rows: readonly Row[]) => multiset(rows.map((r) => r.slice(0, shape.key.length)));
    const [keysThere, keysHere] = [counts(there), counts(here)];
    const isTwice = (row: Row) => (keysThere.get(of(row)) ?? 0) > 1 || (keysHere.get(of(row)) ?? 0) > 1;
    const label = `pair ${n} of seed ${SEED}`;
    const figures = async (isUnique: boolean) =>
      (await ask(countRowKinds(pair.compared, shape, { isUnique })))[0]!.map(Number);
    if (shape.key.length === 0) {
      const equal = shared(there, here);
      const wanted = [there.length, here.length, there.length - equal, here.length - equal, equal, 0];
      expect([label, ...(await figures(true))]).toEqual([label, ...wanted]);
      const only = await ask(rowsOfKind(pair.compared, shape, { isUnique: true, kind: 'only here', most: 1000 }));
      expect([label, only.reduce((sum, row) => sum + Number(row.at(-1)), 0)]).toEqual([label, here.length - equal]);
      seen.whole++;
      continue;
    }
    const repeated = [keysThere, keysHere].map((k) => [...k.values()].filter((c) => c > 1).length);
    const isUnique = repeated.every((r) => r === 0);
    expect([label, ...(await ask(countRepeated(pair.compared, shape)))[0]!.map(Number)]).toEqual([label, ...repeated]);
    const [t, h] = [there, here].map((rows) => new Map(rows.filter((r) => !isTwice(r)).map((r) => [of(r), r])));
    const both = [...t!].flatMap(([key, row]) => (h!.has(key) ? [[row, h!.get(key)!] as const] : []));
    const differing = both.filter(([a, b]) => text(a) !== text(b));
    expect([label, ...(await figures(isUnique))]).toEqual([
      label,
      t!.size,
      h!.size,
      t!.size - both.length,
      h!.size - both.length,
      both.length - differing.length,
      differing.length,
    ]);
    if (!isUnique) {
      const [a, b] = [there, here].map((rows) => rows.filter(isTwice));
      const keys = new Set([...a!, ...b!].map(of)).size;
      expect([label, ...(await ask(compareRepeated(pair.compared, shape)))[0]!.map(Number)]).toEqual([
        label,
        keys,
        a!.length,
        b!.length,
        shared(a!, b!),
      ]);
      seen.repeated++;
    }
    const row = (await ask(columnFigures(pair.compared, shape, { isUnique })))[0]!;
    let at = 0;
    for (const [i, c] of shape.shared.entries()) {
      const place = shape.key.length + i;
      const differ = both.filter(([a, b]) => a[place] !== b[place]);
      const nulls = [t!, h!].map((m) => [...m.values()].filter((r) => r[place] === null).length);
      expect([label, c.name, ...row.slice(at, at + 3).map(Number)]).toEqual([label, c.name, differ.length, ...nulls]);
      if (c.isNumber) {
        const sums = [t!, h!].map((m) => [...m.values()].reduce((sum, r) => sum + Number(r[place] ?? 0), 0));
        expect(row.slice(at + 3, at + 5).map(Number)).toEqual(sums);
      }
      at += c.isNumber ? 11 : 3;
      if (differ.length === 0) continue;
      const frequent = await ask(frequentChanges(pair.compared, shape, { isUnique, of: [c.name], most: 1000 }));
      expect([label, c.name, frequent.reduce((sum, f) => sum + Number(f[3]), 0)]).toEqual([
        label,
        c.name,
        differ.length,
      ]);
      const rows = await ask(
        rowsOfKind(pair.compared, shape, { isUnique, kind: 'different', most: 1000, column: c.name }),
      );
      expect([label, rows.length]).toEqual([label, differ.length]);
    }
    const kinds = ['only there', 'only here', 'different'] as const;
    const listed = await Promise.all(
      kinds.map(async (kind) => (await ask(rowsOfKind(pair.compared, shape, { isUnique, kind, most: 1000 }))).length),
    );
    expect([label, ...listed]).toEqual([label, t!.size - both.length, h!.size - both.length, differing.length]);
    seen.equal += both.length - differing.length;
    seen.different += differing.length;
    if (shape.shared.some((c) => c.isText)) seen.retyped++;
  }
  for (const [what, n] of Object.entries(seen)) expect([what, n > 0]).toEqual([what, true]);
}, 600_000);

test('numbers that each load gives are compared by what they mean', async () => {
  await client.query(`
    drop table if exists d_before, d_after, f_before, f_after;
    create table d_before (d_key bigint, code text, since date); insert into d_before values (1, 'a', '2026-01-01'), (2, 'b', '2026-01-01');
    create table d_after (d_key bigint, code text, since date); insert into d_after values (7, 'a', '2026-01-01'), (8, 'b', '2026-01-02');
    create table f_before (no integer, d_key bigint); insert into f_before values (1, 1), (2, 2), (3, 99), (4, null);
    create table f_after (no integer, d_key bigint); insert into f_after values (1, 7), (2, 8), (3, 99), (4, null)`);
  const side = (name: string, type = 'bigint') => ({
    from: `${SCHEMA}.f_${name}`,
    columns: [
      { name: 'no', type: 'integer' },
      { name: 'd_key', type },
    ],
    members: new Map([['d_key', `${SCHEMA}.d_${name}`]]),
  });
  const compared: RowsCompared = {
    there: side('before'),
    here: side('after'),
    key: ['no'],
    apart: [],
    members: [{ column: 'd_key', table: 'core.d', number: 'd_key', meaning: ['code', 'since'] }],
  };
  const shape = comparisonShape(compared);
  expect((await ask(countRowKinds(compared, shape, { isUnique: true })))[0]!.map(Number)).toEqual([4, 4, 0, 0, 3, 1]);
  expect(await ask(rowsOfKind(compared, shape, { isUnique: true, kind: 'different', most: 10 }))).toEqual([
    ['2', 'b, 2026-01-01', 'b, 2026-01-02'],
  ]);
});
