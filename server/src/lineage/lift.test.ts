import { expect, jest, test } from '@jest/globals';
import { anatomyOf, inline, lift } from '@ouvrage/core/anatomy';
import { projectAround } from '@ouvrage/core/columns';
import type { Definition, Project } from '@ouvrage/core/model';
import { changeFiles, readProject } from '@ouvrage/core/resolve';
import { random, scratch } from '../testing-sql.js';
import { generatedQueries } from './query-models.js';
import { BASE, isOfProject, makeTables, rowsOf } from './query-projects.js';

/** Steps of random queries become definitions of their own, and go back: the rows stay the same. */
const SCHEMA = 'lift_test';
const QUERIES = Number(process.env.OUVRAGE_QUERIES ?? 200);
const SEED = Number(process.env.OUVRAGE_SEED ?? 1);

jest.setTimeout(300_000);
const client = scratch(SCHEMA);

const stepsOf = (project: Project): string[] => {
  const { query, path } = project.tables.get('mart.q') as Definition;
  const around = projectAround((t) => project.columns.get(t), project.functions);
  const names = { placeOf: () => undefined, functionsSchema: SCHEMA };
  return [...anatomyOf({ file: project.files.get(path)!, query: query!, around }, names, (c) => c).origins.keys()];
};

const after = (project: Project, { files }: { readonly files: readonly { path: string; after: string | null }[] }) =>
  changeFiles(project, new Map(files.map((f) => [f.path, f.after])));

test(`each step of ${QUERIES} queries that can be lifted leaves the rows as they are, and so does its way back`, async () => {
  await makeTables(client, random(SEED));
  const wrong: string[] = [];
  const counts = { lifted: 0, refused: 0, inlined: 0 };
  for (const { sql } of [...generatedQueries(QUERIES, 'staging', random(SEED + 1))].filter(isOfProject)) {
    const project = readProject(new Map([...BASE, ['mart/q.sql', sql] as const]));
    const before = await rowsOf(client, SCHEMA, project, 'mart.q');
    for (const step of stepsOf(project)) {
      const taken = lift(project, { table: 'mart.q', step, as: 'staging.lifted', kind: 'view' });
      if ('obstacle' in taken) {
        counts.refused++;
        continue;
      }
      counts.lifted++;
      const apart = after(project, taken);
      const rows = await rowsOf(client, SCHEMA, apart, 'mart.q');
      if (rows !== before)
        wrong.push(`${step}: ${sql}\n${taken.files.map((f) => f.after).join('\n')}\n${before} / ${rows}`);
      const back = inline(apart, 'staging.lifted');
      if ('obstacle' in back) wrong.push(`${step}: ${sql}\n${back.obstacle}`);
      else {
        counts.inlined++;
        const again = await rowsOf(client, SCHEMA, after(apart, back), 'mart.q');
        if (again !== before) wrong.push(`${step} back: ${sql}\n${back.files[0]!.after}\n${before} / ${again}`);
      }
    }
    if (wrong.length > 5) break;
  }
  process.stdout.write(`${counts.lifted} steps lifted and ${counts.inlined} put back, ${counts.refused} left\n`);
  expect(wrong).toEqual([]);
  expect(counts.lifted).toBeGreaterThan(counts.refused);
});
