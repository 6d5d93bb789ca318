import { expect, jest, test } from '@jest/globals';
import { anatomyOf, type Anatomy, type Figures, type Step } from '@ouvrage/core/anatomy';
import { projectAround } from '@ouvrage/core/columns';
import { declaredColumn, type ProjectFunction } from '@ouvrage/core/model';
import { parseSql } from '@ouvrage/core/sql';
import { random, scratch } from '../testing-sql.js';
import { COLUMNS, generatedQueries, TABLES, type Random } from './query-models.js';

/** The steps of random queries, counted by PostgreSQL. */
const SCHEMA = 'anatomy_test';
const QUERIES = Number(process.env.OUVRAGE_QUERIES ?? 400);
const SEED = Number(process.env.OUVRAGE_SEED ?? 1);

jest.setTimeout(300_000);
const client = scratch(SCHEMA);

const TYPES: Readonly<Record<string, string>> = { v: 'text', w: 'text', g: 'integer[]', j: 'jsonb' };
const typeOf = (column: string) => TYPES[column] ?? 'integer';
const columnsOf = new Map(
  TABLES.map((t) => [`${SCHEMA}.${t}`, COLUMNS[t].map((name) => declaredColumn(name, typeOf(name)))]),
).set(`${SCHEMA}.pair`, [declaredColumn('k', 'integer'), declaredColumn('v', 'text')]);
const WORDS = { returnsSet: true, columns: [{ name: 'word', type: 'text' }] } as unknown as ProjectFunction;
const around = projectAround((table) => columnsOf.get(table), new Map([['words', WORDS]]));

const valueOf = (column: string, dice: Random): string => {
  const text = () => (dice(6) === 0 ? 'null' : `'${'abcdef'[dice(6)]}${dice(3) ? '' : ' x'}'`);
  if (column === 'g') return `array[${dice(5)}, ${dice(5)}]`;
  if (column === 'j') return `jsonb_build_object('v', ${text()}::text)`;
  if (typeOf(column) === 'text') return text();
  return dice(9) === 0 ? 'null' : String(dice(6));
};

async function makeTables(dice: Random): Promise<void> {
  const rows = (table: (typeof TABLES)[number]) =>
    Array.from({ length: 9 }, () => `(${COLUMNS[table].map((c) => valueOf(c, dice)).join(', ')})`).join(', ');
  await client.query(
    TABLES.map(
      (t) =>
        `create table ${t} (${COLUMNS[t].map((c) => `${c} ${typeOf(c)}`).join(', ')}); insert into ${t} (${COLUMNS[t].join(', ')}) values ${rows(t)};`,
    ).join('\n') +
      `create table pair (k integer, v text);
       create function words(t text) returns table (word text) stable language sql as $$ select x from unnest(string_to_array(t, ' ')) as x $$;`,
  );
}

const NAMES = { placeOf: () => undefined, functionsSchema: SCHEMA };

function takenApart(sql: string): Anatomy {
  const { node, start, end } = parseSql(sql).statements[0]!;
  if (!('SelectStmt' in node)) throw new Error(sql);
  const query = { select: node.SelectStmt, start, end, tables: [], functions: [], settings: [], moments: [] };
  return anatomyOf({ file: { text: sql }, query, around }, NAMES, (compiled) => compiled);
}

/** All figures of a query's steps, by step. */
async function counted({ steps, questions }: Anatomy): Promise<Map<string, Record<string, number>>> {
  const figures = new Map(steps.map((s) => [s.id, { ...s.known } as Record<string, number>]));
  for (const { gives, sql, isOptional } of questions) {
    const row = await client.query({ text: sql().text, rowMode: 'array' }).then(
      ({ rows }) => rows[0] as string[],
      (error: unknown) => {
        if (!isOptional) throw new Error(`${String(error)}\n${sql().text}`);
        return undefined;
      },
    );
    if (row)
      for (const [i, list] of gives.entries())
        for (const { step, figure } of list) figures.get(step)![figure] = Number(row[i]);
  }
  for (const s of steps)
    if (s.rowsOf) figures.get(s.id)!['rows'] = s.rowsOf.reduce((n, id) => n + figures.get(id)!['rows']!, 0);
  return figures;
}

const one = async (sql: string): Promise<number> =>
  Number((await client.query({ text: sql, rowMode: 'array' })).rows[0]![0]);

/** What does not hold of a step. */
async function faultsOf(step: Step, figures: Figures): Promise<string[]> {
  const faults: string[] = [];
  const same = (what: string, a: number | undefined, b: number) => {
    if (a !== b) faults.push(`${step.id}: ${what} ${a} is ${b}`);
  };
  if (step.count) same('rows', figures.rows, await one(step.count().text));
  for (const look of step.looks) {
    const shown = await client.query({ text: look.sql().text, rowMode: 'array' });
    if (look.name === 'rows') {
      same('rows shown', figures.rows, shown.rows.length);
      const names = shown.fields.map((f) => f.name).join();
      if (step.columns && step.columns.join() !== names) faults.push(`${step.id}: ${step.columns.join()} are ${names}`);
    } else if (look.name === 'leftAlone' || look.name === 'rightAlone' || look.name === 'unknown')
      same(look.name, figures[look.name], shown.rows.length);
    else if (look.name === 'keys') same('keys', figures.leftKeys, shown.rows.length);
    else if (look.name === 'leftRows') same('left rows', figures.leftSeveral, shown.rows.length);
    else same('right rows', figures.rightPartners, shown.rows.length);
  }
  return faults;
}

/** Forms of joins, conditions and groups that the constructs of the other generator do not have, put together at random. */
function* shapes(count: number, dice: Random): Generator<{ sql: string }> {
  const pick = <T>(list: readonly T[]): T => list[dice(list.length)]!;
  const s = SCHEMA;
  const kind = () => pick(['join', 'inner join', 'left join', 'left outer join', 'right join', 'full join']);
  const on = () =>
    pick([
      'a.k = b.k',
      'b.k = a.k and b.y > 1',
      '(a.k = b.k) and (a.v is not null and b.w is not null)',
      'a.k = b.k and a.z = b.y',
      'left(a.v, 1) = left(b.w, 1)',
      'a.z = case when b.y = 1 then 2 else b.y end',
      'a.k between b.k and b.y + 1',
      'a.k < b.k and a.z is not distinct from b.y',
      'a.v || $$ and $$ <> b.w or a.k = b.k',
    ]);
  const condition = () =>
    pick([
      'a.z > 1',
      'a.k is distinct from a.z',
      '(a.v is null or a.z < 4)',
      'a.z between 1 and 4',
      `a.k in (select y from ${s}.b)`,
      `a.k not in (select y from ${s}.b)`,
      `a.k not in (select y from ${s}.b as i where i.k = a.k)`,
      `exists (select from ${s}.c where c.k = a.k)`,
      `not exists (select 1 from ${s}.b as i where i.y = a.z)`,
      "(a.z >= 0 and (a.k >= 0 and a.v <> 'b'))",
    ]);
  const where = () => Array.from({ length: 1 + dice(3) }, condition).join(' and ');
  const from = () =>
    pick([
      () =>
        `${s}.a ${kind()} ${s}.b on ${on()}`.replace(
          /(right|full) join (.*) on (a.k (<|bet).*|a.v \|\|.*)/,
          'left join $2 on $3',
        ),
      () => `${s}.a, ${s}.b`,
      () => `${s}.a, (${s}.b cross join ${s}.c)`,
      () =>
        `(${s}.a left join ${s}.b on a.k = b.k) ${pick(['join', 'left join'])} ${s}.c on c.k = a.k and (b.y is null or c.g[1] = b.y)`,
      () => `${s}.a join ${s}.b join ${s}.c on b.k = c.k on a.k = b.k`,
      () => `${s}.a left join (${s}.b natural join (select k as kk, y from ${s}.b) as r) on a.k = kk`,
      () => `${s}.a left join lateral (select w, y from ${s}.b as i where i.k = a.k limit 1) as b on true`,
      () =>
        `${s}.a join ${s}.b using (k) left join ${s}.c using (k)`
          .replaceAll('using (k) left', 'on a.k = b.k left')
          .replace('using (k)', 'on c.k = b.k'),
    ])();
  const shape = () =>
    pick([
      () => `select a.v, a.z from ${from()} where ${where()}`,
      () =>
        `select a.k, b.y as "from", a.z as n from ${s}.a, ${s}.b where ${pick(['a.k = b.k', 'b.y = a.k and a.z = b.k', 'a.z = 1'])} and ${where()}`,
      () =>
        `select a.k as v, count(*) as n, sum(a.z) filter (where a.z > 1) as z from ${from()} where ${where()} group by ${pick(['1', 'a.k', 'a.k, a.v', 'rollup (a.k, a.z), a.v, a.k'])} having ${pick(['count(*) > 1', 'max(a.z) > 2', 'sum(a.z) > 1 and min(a.v) is not null'])}`,
      () => `select substr(a.v, 1, 1) as initial, count(*) n from ${from()} group by initial order by n limit 3`,
      () =>
        `select distinct on (${pick(['a.k', 'q, a.v', '1'])}) a.k as q, a.v, a.z from ${from()} ${pick(['', `where ${where()}`])} order by 1, a.v`.replace(
          'on (a.k)',
          'on (a.k)',
        ),
      () => `select distinct a.v, a.z from ${from()} limit 4 offset 1`,
      () =>
        `select a.k, row_number() over (partition by a.v, a.z order by a.k) as n, sum(a.z) over w as t from ${from()} window w as (partition by a.k)`,
      () => `select a.v, unnest(array[a.k, a.z]) as u from ${from()}`,
      () => `select count(*), max(a.v) from ${from()} where ${where()}`,
      () =>
        `(select a.k from ${from()}) union all select k from ${s}.b union all (select k from ${s}.c order by k limit 2)`,
      () =>
        `select k from ${s}.a except select k from ${s}.b union select y from ${s}.b intersect select k from ${s}.c order by 1 limit 2`,
      () =>
        `with x as (select * from ${s}.a where z > 0), y as (select k, count(*) as n from x group by k) select x.v, y.n from x left join y using (k) join x as again on again.k = x.z`,
      () => `select a.k, n.value from ${s}.a, (values (1), (2), (null)) as n(value) where n.value = a.k`,
      () => `table ${s}.a`,
      () => `select a.k, random() as r from ${from()} where a.z > random() - 1`,
      () => `select current_date as from_, 1 as "as"`,
    ])();
  for (let i = 0; i < count; i++) yield { sql: shape() };
}

test.each([
  ['nested constructs', () => generatedQueries(QUERIES, SCHEMA, random(SEED + 1))],
  ['joins, conditions and groups', () => shapes(QUERIES, random(SEED + 2))],
])(`the steps of ${QUERIES} queries count what PostgreSQL counts: %s`, async (_, queries) => {
  if ((await one(`select count(*) from pg_class where oid = to_regclass('${SCHEMA}.a')`)) === 0)
    await makeTables(random(SEED));
  const wrong: string[] = [];
  const kinds = new Map<string, number>();
  let whole = 0;
  for (const { sql } of queries()) {
    try {
      const anatomy = takenApart(sql);
      const figures = await counted(anatomy);
      for (const step of anatomy.steps) {
        kinds.set(step.kind, (kinds.get(step.kind) ?? 0) + 1);
        if (step.name === 'query') whole++;
        if (step.why === undefined)
          wrong.push(...(await faultsOf(step, figures.get(step.id)!)).map((f) => `${f}\n  ${sql}`));
      }
      const result = anatomy.steps.at(-1)!;
      const rows = await one(`select count(*) from (${sql}) q`);
      if (result.why === undefined && figures.get(result.id)!['rows'] !== rows)
        wrong.push(`result ${figures.get(result.id)!['rows']} is ${rows}\n  ${sql}`);
    } catch (error) {
      wrong.push(`${String(error)}\n  ${sql}`);
    }
    if (wrong.length > 20) break;
  }
  process.stdout.write(`${[...kinds].map(([k, n]) => `${k} ${n}`).join('; ')}; not taken apart ${whole}\n`);
  expect(wrong).toEqual([]);
});
