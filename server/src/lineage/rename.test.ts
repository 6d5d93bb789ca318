import { expect, jest, test } from '@jest/globals';
import { rename, type Renaming } from '@ouvrage/core/assist';
import { changeFiles, readProject } from '@ouvrage/core/resolve';
import { random, scratch } from '../testing-sql.js';
import { COLUMNS, generatedQueries, TABLES } from './query-models.js';
import { BASE, isOfProject, makeTables, rowsOf } from './query-projects.js';

/** Renames at random in projects of random queries: each is read as before, and has the same rows. */
const SCHEMA = 'rename_test';
const RENAMES = Number(process.env.OUVRAGE_RENAMES ?? 150);
const SEED = Number(process.env.OUVRAGE_SEED ?? 1);
const QUERIES = 5;
/** What is taken with a star or joined by more than one name is left to the author. */
const LEAST_RENAMED = 0.6;

jest.setTimeout(300_000);
const client = scratch(SCHEMA);

test(`of ${RENAMES} columns renamed at random, all are read as before and give the same rows`, async () => {
  const dice = random(SEED);
  await makeTables(client, dice);
  const usable = [...generatedQueries(RENAMES * QUERIES * 2, 'staging', random(SEED + 1))].filter(isOfProject);
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
      const [a, b] = [
        await rowsOf(client, SCHEMA, project, `mart.q${n}`),
        await rowsOf(client, SCHEMA, after, `mart.q${n}`),
      ];
      kinds.compared++;
      if (a.startsWith('error')) kinds.failing++;
      if (a !== b)
        wrong.push(`${JSON.stringify(renaming)}: ${sql}\n  ${after.files.get(`mart/q${n}.sql`)?.text}\n  ${a} / ${b}`);
    }
    if (wrong.length > 5) break;
  }
  process.stdout.write(
    `${kinds.renamed} renamed, ${kinds.refused} left to the author; ${kinds.compared} queries compared, ${kinds.failing} of them end with an error\n`,
  );
  expect(wrong).toEqual([]);
  expect(kinds.failing).toBeLessThan(kinds.compared / 10);
  expect(kinds.renamed / RENAMES).toBeGreaterThan(LEAST_RENAMED);
});
