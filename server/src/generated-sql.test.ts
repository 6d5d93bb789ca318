import { beforeAll, describe, expect, test } from '@jest/globals';
import { constraintChecks, countStatement, rowsStatement } from '@ouvrage/core/check';
import type { Project } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import { ident, shortType } from '@ouvrage/core/sql';
import { random, scratch } from './testing-sql.js';

/** What core says about SQL, held against PostgreSQL itself. */
const SCHEMA = 'generated_sql_test';
const client = scratch(SCHEMA);

const project = (files: Readonly<Record<string, string>>): Project =>
  readProject(new Map(Object.entries({ 'layers.sql': `create schema ${SCHEMA};`, ...files })));

describe('default names of constraints are PostgreSQL’s', () => {
  const long = 'a_table_with_a_name_that_takes_nearly_all_bytes_postgres_has';
  test.each([
    ['one of each', 't', 'a integer primary key, b text unique not null, c integer check (c > 0)'],
    ['over several columns', 't', 'a integer, b integer, c integer, primary key (a, b), unique (b, c), check (a < b)'],
    ['two checks of one column', 't', 'a integer check (a > 0) check (a < 9), unique (a)'],
    ['a taken name', 't', 'a integer constraint t_b_check check (a > 0), b integer check (b > 0)'],
    ['a check of the table over one column', 't', 'a integer, check (a > 0)'],
    ['names in quotes', 'Odd Name', '"Col A" integer unique, "ü" integer check ("ü" > 0)'],
    ['long names', long, 'a_column_with_a_long_name_as_well integer unique, b integer primary key'],
  ])('%s', async (_, name, body) => {
    await client.query(`drop table if exists ${ident(name)}; create table ${ident(name)} (${body})`);
    const { rows } = await client.query<{ conname: string }>(
      'select conname from pg_constraint where conrelid = $1::regclass order by 1',
      [ident(name)],
    );
    const read = project({
      [`${SCHEMA}/${name}.sql`]: `create table ${SCHEMA}.${ident(name)} (${body}); select 1`,
    }).tables.get(`${SCHEMA}.${name}`)!;
    const ours = read.contract!.constraints.filter((c) => c.kind !== 'not null').map((c) => c.name);
    expect(ours.sort()).toEqual(rows.map((r) => r.conname).sort());
  });
});

describe('columns of queries are PostgreSQL’s', () => {
  beforeAll(() =>
    client.query(`create table berth (code text, length_m numeric(6,1), terminal text);
      create table call (no text, code text, tonnage numeric, at timestamptz)`),
  );
  const sources = {
    'sources/s.sql': `create server warehouse foreign data wrapper postgres_fdw;
      create foreign table ${SCHEMA}.berth (code text, length_m numeric(6,1), terminal text) server warehouse;
      create foreign table ${SCHEMA}.call (no text, code text, tonnage numeric, at timestamptz) server warehouse;`,
  };
  test.each([
    'select * from S.berth',
    'select * from S.call join S.berth using (code)',
    'select * from S.berth natural join S.call',
    'select b.*, c.no from S.berth b left join S.call c on c.code = b.code',
    'select x, y from S.berth as b (x, y)',
    "select max(at), coalesce(code, ''), nullif(code, ''), code::varchar(5), 1, 'a', true from S.call group by 2, 3, 4",
    'select exists (select 1), array(select 1), (select max(at) from S.call), (select no as n from S.call limit 1)',
    'select array[1], row(1, 2), greatest(1, 2), current_date, case when true then 1 end, case when true then 1 else length_m end from S.berth',
    'select count(*), count(*) over (), row_number() over (order by code), extract(year from at) from S.call group by code, at',
    'with c (a, b) as (select code, terminal from S.berth) select b, * from c',
    'with recursive r as (select code, 1 as n from S.berth union all select code, n + 1 from r where n < 2) select * from r',
    'select code from S.berth union all select no from S.call',
    'values (1, 2), (3, 4)',
    "select * from (values (1, 'x')) as v (a, b)",
    'select n.no, b.code from S.berth b cross join lateral (select no from S.call c where c.code = b.code) as n',
    "select * from json_to_record('{}') as r (a integer, b text)",
    'select j.* from (S.call c join S.berth b on b.code = c.code) as j (a, b2)',
    'select (length_m * 2)::numeric(8,2), cast(at as date) as d, at at time zone $$UTC$$ from S.berth, S.call',
    "select trim(code), nullif(trim(code), ''), coalesce(code, 'none'), coalesce(nullif(lower(code), ''), terminal, '-'), upper(code || 'x') from S.berth",
    "select case when length_m > 1 then code else 'none' end, case code when 'a' then 'b' else null end, coalesce(length_m, 0), replace(code, 'a', 'b'), to_char(length_m, '9') from S.berth",
    'select distinct on (code) code, at from S.call order by code, at desc',
    'select sum(tonnage) filter (where code is not null), string_agg(no, $$,$$ order by no) from S.call',
  ])('%s', async (sql) => {
    const text = sql.replaceAll('S.', `${SCHEMA}.`);
    const read = project({ ...sources, [`${SCHEMA}/q.sql`]: text });
    expect(read.diagnostics.filter((d) => d.code !== 'duplicate-column' && d.code !== 'unnamed-column')).toEqual([]);
    const { fields } = await client.query(text);
    expect(read.diagnostics.filter((d) => d.code === 'unnamed-column')).toHaveLength(
      fields.filter((f) => f.name === '?column?').length,
    );
    const { rows: types } = await client.query<{ type: string }>(
      'select format_type(t, m) as type from unnest($1::oid[], $2::int[]) with ordinality as f (t, m, n) order by n',
      [fields.map((f) => f.dataTypeID), fields.map((f) => f.dataTypeModifier)],
    );
    const ours = read.columns.get(`${SCHEMA}.q`)!;
    expect(ours.map((c) => c.name)).toEqual(fields.map((f) => f.name));
    ours.forEach(
      (c, i) => c.type !== undefined && expect([c.name, c.type]).toEqual([c.name, shortType(types[i]!.type)]),
    );
  });
});

describe('checks count what a plain computation counts', () => {
  type Row = readonly [a: number | null, b: string | null, c: number | null];
  const CONTRACT = `create table ${SCHEMA}.facts (
    a integer unique, b text not null references ${SCHEMA}.known (k), c integer,
    unique (b, c), constraint in_order check (a <= c), primary key (a, b)) with (advisory = 'in_order')`;
  const distinctRows = (rows: readonly Row[], columns: readonly number[]) => {
    const keys = rows.map((r) =>
      columns.some((i) => r[i] === null) ? undefined : JSON.stringify(columns.map((i) => r[i])),
    );
    return keys.filter((k) => k !== undefined && keys.indexOf(k) !== keys.lastIndexOf(k)).length;
  };
  /** Rows at fault of each constraint, written from the SQL standard's rules only. */
  const naive = (rows: readonly Row[], known: readonly string[]): Readonly<Record<string, number>> => ({
    facts_a_key: distinctRows(rows, [0]),
    facts_b_not_null: rows.filter((r) => r[1] === null).length,
    facts_b_fkey: rows.filter((r) => r[1] !== null && !known.includes(r[1])).length,
    facts_b_c_key: distinctRows(rows, [1, 2]),
    in_order: rows.filter((r) => r[0] !== null && r[2] !== null && r[0] > r[2]).length,
    facts_pkey: rows.filter((r) => r[0] === null || r[1] === null).length + distinctRows(rows, [0, 1]),
  });

  test.each(Array.from({ length: 60 }, (_, seed) => seed))('seed %i', async (seed) => {
    const next = random(seed);
    const maybe = <T>(value: T) => (next(6) === 0 ? null : value);
    const words = ['x', 'y', "o'z", ''];
    const known = words.filter(() => next(2) === 0);
    const rows: Row[] = Array.from({ length: next(25) }, () => [
      maybe(next(12)),
      maybe(words[next(4)]!),
      maybe(next(5)),
    ]);
    await client.query(
      `drop table if exists facts, known; create table facts (a integer, b text, c integer); create table known (k text)`,
    );
    await client.query('insert into known select unnest($1::text[])', [known]);
    const column = (i: number) => rows.map((r) => r[i]);
    await client.query('insert into facts select * from unnest($1::int[], $2::text[], $3::int[])', [
      column(0),
      column(1),
      column(2),
    ]);
    const read = project({
      [`${SCHEMA}/facts.sql`]: `${CONTRACT}; select 1 as a, '' as b, 1 as c`,
      [`${SCHEMA}/known.sql`]: "select 'x' as k",
    });
    const checks = constraintChecks(read, read.tables.get(`${SCHEMA}.facts`)!);
    const placeOf = (table: string) => ({ schema: SCHEMA, name: table.split('.')[1]! });
    const counted = (await client.query<Record<string, string>>(countStatement(checks, `${SCHEMA}.facts`, placeOf)))
      .rows[0]!;
    const expected = naive(rows, known);
    expect(Number(counted['total'])).toBe(rows.length);
    for (const [i, check] of checks.entries()) {
      expect([check.name, Number(counted[`c${i}`])]).toEqual([check.name, expected[check.name]]);
      const shown = await client.query(rowsStatement(check, placeOf, 1000));
      // A row that is both null and repeated in a key is one row, counted once in either.
      expect([check.name, shown.rowCount]).toEqual([check.name, expected[check.name]]);
    }
  });
});
