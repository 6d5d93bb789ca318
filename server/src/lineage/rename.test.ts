import { expect, jest, test } from '@jest/globals';
import { rename, type Renaming } from '@ouvrage/core/assist';
import { definitionQuery, previewQuery } from '@ouvrage/core/keys';
import type { Definition, Project } from '@ouvrage/core/model';
import { changeFiles, readProject } from '@ouvrage/core/resolve';
import { random, scratch } from '../testing-sql.js';
import { COLUMNS, generatedQueries, TABLES, type Random } from './query-models.js';

/** Renames at random in projects of random queries: each is read as before, and has the same rows. */
const SCHEMA = 'rename_test';
const RENAMES = Number(process.env.OUVRAGE_RENAMES ?? 150);
const SEED = Number(process.env.OUVRAGE_SEED ?? 1);
const QUERIES = 5;
/** What is taken with a star or joined by more than one name is left to the author. */
const LEAST_RENAMED = 0.6;

jest.setTimeout(300_000);
const client = scratch(SCHEMA);

const TYPES: Readonly<Record<string, string>> = { v: 'text', w: 'text', g: 'integer[]', j: 'jsonb' };
const typeOf = (column: string) => TYPES[column] ?? 'integer';
const valueOf = (column: string, dice: Random): string => {
  if (column === 'g') return `array[${dice(5)}, ${dice(5)}]`;
  if (column === 'j') return `jsonb_build_object('v', '${'abc'[dice(3)]}')`;
  if (dice(8) === 0) return 'null';
  return typeOf(column) === 'text' ? `'${'abcdef'[dice(6)]}'` : String(dice(5));
};

async function makeTables(dice: Random): Promise<void> {
  for (const t of TABLES) {
    const rows = Array.from({ length: 6 }, () => `(${COLUMNS[t].map((c) => valueOf(c, dice)).join(', ')})`);
    await client.query(
      `create table ${t} (${COLUMNS[t].map((c) => `${c} ${typeOf(c)}`).join(', ')}); insert into ${t} values ${rows.join(', ')}`,
    );
  }
}

const BASE: readonly (readonly [string, string])[] = [
  ['layers.sql', 'create schema landing; create schema staging; create schema mart;'],
  [
    'sources/s.sql',
    `create server s foreign data wrapper postgres_fdw;\n${TABLES.map(
      (t) => `create foreign table landing.${t} (${COLUMNS[t].map((c) => `${c} ${typeOf(c)}`).join(', ')}) server s;`,
    ).join('\n')}`,
  ],
  ...TABLES.map((t) => [`staging/${t}.sql`, `select ${COLUMNS[t].join(', ')} from landing.${t}`] as const),
];

/** A query's rows, whatever their order; an error's text where it has none. */
async function rowsOf(project: Project, table: string): Promise<string> {
  const of = project.tables.get(table) as Definition;
  const placeOf = (t: string) =>
    t.startsWith('landing.') ? { schema: SCHEMA, name: t.slice('landing.'.length) } : undefined;
  const names = { placeOf, functionsSchema: SCHEMA };
  const { text } = previewQuery(project, definitionQuery(project, of, names), project.reads.get(table) ?? [], names);
  return client.query({ text, rowMode: 'array' }).then(
    ({ rows }) =>
      rows
        .map((r) => JSON.stringify(r))
        .sort()
        .join('\n'),
    (error: unknown) => String(error),
  );
}

test(`of ${RENAMES} columns renamed at random, all are read as before and give the same rows`, async () => {
  const dice = random(SEED);
  await makeTables(dice);
  // Functions and types of the generator are no part of a project.
  const usable = [...generatedQueries(RENAMES * QUERIES * 2, 'staging', random(SEED + 1))].filter(
    ({ sql }) => !/words\(|staging\.pair|tablesample/.test(sql),
  );
  const wrong: string[] = [];
  const kinds = { renamed: 0, refused: 0, compared: 0, failing: 0 };
  for (let i = 0; i < RENAMES; i++) {
    const queries = Array.from({ length: QUERIES }, () => usable[dice(usable.length)]!.sql);
    const project = readProject(new Map([...BASE, ...queries.map((sql, n) => [`mart/q${n}.sql`, sql] as const)]));
    const table = TABLES[dice(TABLES.length)]!;
    const column = COLUMNS[table][dice(3)]!;
    const renaming: Renaming =
      dice(4) === 0
        ? { kind: 'table', table: `staging.${table}`, to: 'staging.other' }
        : { kind: 'column', table: `staging.${table}`, column, to: 'other' };
    const result = rename(project, renaming);
    if ('obstacles' in result) {
      kinds.refused++;
      continue;
    }
    kinds.renamed++;
    const after = changeFiles(project, new Map(result.files.map((f) => [f.path, f.after])));
    for (const [n, sql] of queries.entries()) {
      const [a, b] = [await rowsOf(project, `mart.q${n}`), await rowsOf(after, `mart.q${n}`)];
      kinds.compared++;
      if (a.startsWith('error')) kinds.failing++;
      if (a !== b)
        wrong.push(`${JSON.stringify(renaming)}: ${sql}\n  ${after.files.get(`mart/q${n}.sql`)?.text}\n  ${a} / ${b}`);
    }
    if (wrong.length > 5) break;
  }
  process.stdout.write(`${kinds.renamed} renamed, ${kinds.refused} left to the author; ${kinds.compared} queries compared, ${kinds.failing} of them end with an error\n`);
  expect(wrong).toEqual([]);
  expect(kinds.failing).toBeLessThan(kinds.compared / 10);
  expect(kinds.renamed / RENAMES).toBeGreaterThan(LEAST_RENAMED);
});
