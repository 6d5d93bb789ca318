import { expect, jest, test } from '@jest/globals';
import { projectAround, resolveColumns } from '@ouvrage/core/columns';
import { indexFile } from '@ouvrage/core/index';
import { declaredColumn, type ProjectFunction } from '@ouvrage/core/model';
import { parseSql, shortType } from '@ouvrage/core/sql';
import type pg from 'pg';
import { random, scratch } from '../testing-sql.js';
import { COLUMNS, coverage, generatedQueries, TABLES, type GeneratedQuery, type Random } from './query-models.js';

/** Core's columns, types, value and influence of random queries, held against PostgreSQL. */
const SCHEMA = 'lineage_test';
const QUERIES = Number(process.env.OUVRAGE_QUERIES ?? 1500);
/** Of these the rows are read, too, with each column of a table changed in turn. */
const PLAYED = Number(process.env.OUVRAGE_PLAYED ?? 100);
const SEED = Number(process.env.OUVRAGE_SEED ?? 1);
/** Tries to show that a column that gives a value matters, and the least share of those that do. */
const TRIES = 8;
const LEAST_SHOWN = 0.8;

jest.setTimeout(300_000);
const client = scratch(SCHEMA);

const TYPES: Readonly<Record<string, string>> = { v: 'text', w: 'text', g: 'integer[]', j: 'jsonb' };
const typeOf = (column: string) => TYPES[column] ?? 'integer';
const columnsOf = new Map(
  TABLES.map((t) => [`${SCHEMA}.${t}`, COLUMNS[t].map((name) => declaredColumn(name, typeOf(name)))]),
).set(`${SCHEMA}.pair`, [declaredColumn('k', 'integer'), declaredColumn('v', 'text')]);

const WORDS = { returnsSet: true, columns: [{ name: 'word', type: 'text' }] } as unknown as ProjectFunction;
/** The function of the tests is called in their own schema, which is why its name is not core's. */
const around = projectAround((table) => columnsOf.get(table), new Map([['words', WORDS]]));

async function makeTables(): Promise<void> {
  await client.query(
    TABLES.map((t) => `create table ${t} (${COLUMNS[t].map((c) => `${c} ${typeOf(c)}`).join(', ')});`).join('\n') +
      `create table pair (k integer, v text);
       create function words(t text) returns table (word text) stable language sql as $$ select x from unnest(string_to_array(t, ' ')) as x $$;`,
  );
}

const valueOf = (column: string, dice: Random): string => {
  const text = () => (dice(6) === 0 ? 'null' : `'${'abcdef'[dice(6)]}${dice(3) ? '' : ' x'}'`);
  if (column === 'g') return `array[${dice(5)}, ${dice(5)}]`;
  if (column === 'j') return `jsonb_build_object('v', ${text()}::text)`;
  if (typeOf(column) === 'text') return text();
  return dice(9) === 0 && column !== 'k' ? 'null' : String(dice(5));
};

/** New rows for all tables. */
async function fill(dice: Random): Promise<void> {
  const rows = (table: (typeof TABLES)[number]) =>
    Array.from({ length: 5 }, () => `(${COLUMNS[table].map((c) => valueOf(c, dice)).join(', ')})`).join(', ');
  await client.query(
    TABLES.map((t) => `truncate ${t}; insert into ${t} (${COLUMNS[t].join(', ')}) values ${rows(t)};`).join('\n'),
  );
}

/** Other values for one column; rows keep their places. */
async function change(table: string, column: string, dice: Random): Promise<void> {
  const { rows } = await client.query<{ ctid: string }>(`select ctid::text from ${table} order by ctid`);
  await client.query(
    rows
      .map(({ ctid }) => `update ${table} set ${column} = ${valueOf(column, dice)} where ctid = '${ctid}';`)
      .join(' '),
  );
}

/** What each column of a query holds, rows in no order; an error's class where it ends with one. */
async function answer(sql: string, names: readonly string[]): Promise<readonly string[]> {
  const lists = names.map((n) => `(select string_agg(coalesce(x.${n}::text, '∅'), ',' order by x.${n}::text) from x)`);
  const { rows } = await client.query<Record<string, string>>(
    `with x as (${sql}) select ${lists.map((l, i) => `${l} as c${i}`).join(', ')}`,
  );
  return names.map((_, i) => rows[0]![`c${i}`] ?? '');
}

const asCoreReads = (sql: string) => sql.replaceAll(`${SCHEMA}.words`, 'functions.words');
const resolved = (sql: string) => {
  const { node } = parseSql(asCoreReads(sql)).statements[0]!;
  if (!('SelectStmt' in node)) throw new Error(sql);
  return resolveColumns(node.SelectStmt, around);
};

async function described(connection: pg.Client, sql: string): Promise<string> {
  const { fields } = await connection.query(`select * from (${sql}) x limit 0`);
  const { rows } = await connection.query<{ types: string[] }>(
    `select array(select format_type(o, m) from unnest('{${fields.map((f) => f.dataTypeID).join()}}'::oid[], '{${fields.map((f) => f.dataTypeModifier).join()}}'::integer[]) with ordinality as u(o, m, n) order by n)::text as types`,
  );
  const types = String(rows[0]!.types).slice(1, -1).split(',');
  return fields.map((f, i) => `${f.name} ${shortType(types[i]!.replaceAll('"', ''))}`).join(', ');
}

let queries: readonly GeneratedQuery[] = [];

test('each construct occurs, and each pair of two', async () => {
  await makeTables();
  queries = [...generatedQueries(QUERIES, SCHEMA, random(SEED))];
  const { counts, missing } = coverage(queries);
  // The table is for people who read the log.
  process.stdout.write(`${[...counts].map(([name, n]) => `${name} ${n}`).join('; ')}\n`);
  expect(missing).toEqual([]);
  expect([...counts].filter(([, n]) => n < 20)).toEqual([]);
});

test(`the columns of ${QUERIES} queries are those that PostgreSQL describes`, async () => {
  const wrong: string[] = [];
  for (const { sql } of queries) {
    const { columns, problems } = resolved(sql);
    const said = columns?.map((c) => `${c.name} ${c.type}`).join(', ');
    const wanted = await described(client, sql);
    if (problems.length || said !== wanted) wrong.push(`${sql}\n  ${said} / ${wanted} ${JSON.stringify(problems)}`);
  }
  expect(wrong).toEqual([]);
});

test(`what neither gives nor influences a column never changes it, in ${PLAYED} queries`, async () => {
  const dice = random(SEED + 1);
  const wrong: string[] = [];
  const shown = { asked: 0, changed: 0 };
  for (const { sql } of queries.filter(
    (_, i) => i % Math.ceil(queries.length / PLAYED) === SEED % Math.ceil(queries.length / PLAYED),
  )) {
    const { columns, rows } = resolved(sql);
    const names = columns!.map((c) => c.name);
    const seen = new Set<string>();
    for (let round = 0; round < TRIES; round++) {
      await fill(dice);
      const before = await answer(sql, names);
      for (const table of TABLES)
        for (const column of COLUMNS[table]) {
          await client.query('begin');
          await change(table, column, dice);
          const after = await answer(sql, names);
          await client.query('rollback');
          const origin = `${SCHEMA}.${table}.${column}`;
          for (const [i, c] of columns!.entries()) {
            if (before[i] === after[i]) continue;
            seen.add(`${c.name} ${origin}`);
            if (![c.origins, c.influence, rows].some((list) => list.includes(origin)))
              wrong.push(`${origin} changes ${c.name}: ${sql}`);
          }
        }
      if (wrong.length) break;
      // One round holds the first property; the others look for data that show the second.
      if (columns!.every((c) => c.origins.every((o) => seen.has(`${c.name} ${o}`)))) break;
    }
    for (const c of columns!)
      for (const origin of c.origins) {
        shown.asked++;
        if (seen.has(`${c.name} ${origin}`)) shown.changed++;
      }
  }
  expect(wrong).toEqual([]);
  process.stdout.write(`${shown.changed} of ${shown.asked} columns that give a value were seen to change it\n`);
  expect(shown.changed / shown.asked).toBeGreaterThan(LEAST_SHOWN);
});

/** How core calls what PostgreSQL reports of names. */
const FAULTS: Readonly<Record<string, readonly string[]>> = {
  '42703': ['unknown', 'using', 'unknown-range'],
  '42P01': ['unknown-range'],
  '42702': ['ambiguous'],
  '42601': ['arms', 'mark'],
  '42712': ['alias'],
  '42P10': ['names'],
};
/** Names of tables that are neither common table expressions nor say their layer: the project tells these before columns. */
const withoutLayer = (sql: string) =>
  indexFile('adhoc/x.sql', asCoreReads(sql)).adhoc.flatMap(({ query }) =>
    query.tables.flatMap((t) => (t.layer === undefined ? [{ kind: 'unknown-range', location: t.start }] : [])),
  );

const FAULTY = 300;
const LEAST_RIGHT = 0.95;

/** A query with one word of it changed, or one item of a list left out. */
function broken(sql: string, dice: Random): string {
  const words = [...sql.matchAll(/\b([kvzwyqrop])\b|, [a-z](?=[ ,)])|\b(union all|union) select k/g)];
  const word = words[dice(words.length)]!;
  const [text] = word;
  const instead = text.startsWith(',')
    ? ''
    : text.startsWith('union')
      ? `${text}, k`
      : dice(3)
        ? `${text}x`
        : 'kvzwyqr'[dice(7)]!;
  return sql.slice(0, word.index) + instead + sql.slice(word.index + text.length);
}

test(`of ${FAULTY} queries with a wrong name, core says what is wrong where PostgreSQL does`, async () => {
  const dice = random(SEED + 2);
  const wrong: string[] = [];
  let asked = 0;
  for (let i = 0; asked < FAULTY; i++) {
    const sql = broken(queries[dice(queries.length)]!.sql, dice);
    const refused = await client.query(`select * from (${sql}) x limit 0`).then(
      () => undefined,
      (error: pg.DatabaseError) => error,
    );
    const kinds = FAULTS[refused?.code ?? ''];
    if (!refused || !kinds || parseSql(sql).error) continue;
    asked++;
    const problems = [...resolved(sql).problems, ...withoutLayer(sql)];
    const place = refused.position === undefined ? undefined : Number(refused.position) - 1 - 'select * from ('.length;
    const at = place === undefined ? undefined : asCoreReads(sql.slice(0, place)).length;
    const isRight = problems.some((p) => kinds.includes(p.kind) && (at === undefined || p.location === at));
    if (!isRight) wrong.push(`${refused.message} at ${place}: ${sql}\n  ${JSON.stringify(problems[0])}`);
  }
  process.stdout.write(`${asked - wrong.length} of ${asked} wrong names were found in their places\n`);
  if (wrong.length > FAULTY * (1 - LEAST_RIGHT)) expect(wrong).toEqual([]);
});
