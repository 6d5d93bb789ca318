import type { Definition, Project } from '@ouvrage/core/model';
import { definitionQuery, previewQuery } from '@ouvrage/core/keys';
import type pg from 'pg';
import { COLUMNS, TABLES, type Random } from './query-models.js';

/** Small projects of random queries over tables that are there, and their rows. */
const TYPES: Readonly<Record<string, string>> = { v: 'text', w: 'text', g: 'integer[]', j: 'jsonb' };
const typeOf = (column: string) => TYPES[column] ?? 'integer';

const valueOf = (column: string, dice: Random): string => {
  if (column === 'g') return `array[${dice(5)}, ${dice(5)}]`;
  if (column === 'j') return `jsonb_build_object('v', '${'abc'[dice(3)]}')`;
  if (dice(8) === 0) return 'null';
  return typeOf(column) === 'text' ? `'${'abcdef'[dice(6)]}'` : String(dice(5));
};

export async function makeTables(client: pg.Client, dice: Random): Promise<void> {
  for (const t of TABLES) {
    const rows = Array.from({ length: 6 }, () => `(${COLUMNS[t].map((c) => valueOf(c, dice)).join(', ')})`);
    await client.query(
      `create table ${t} (${COLUMNS[t].map((c) => `${c} ${typeOf(c)}`).join(', ')}); insert into ${t} values ${rows.join(', ')}`,
    );
  }
}

/** Layers, the tables as sources, and a view of each. */
export const BASE: readonly (readonly [string, string])[] = [
  ['layers.sql', 'create schema landing; create schema staging; create schema mart;'],
  [
    'sources/s.sql',
    `create server s foreign data wrapper postgres_fdw;\n${TABLES.map(
      (t) => `create foreign table landing.${t} (${COLUMNS[t].map((c) => `${c} ${typeOf(c)}`).join(', ')}) server s;`,
    ).join('\n')}`,
  ],
  ...TABLES.map((t) => [`staging/${t}.sql`, `select ${COLUMNS[t].join(', ')} from landing.${t}`] as const),
];

/** Functions and types of the generator are no part of a project. */
export const isOfProject = ({ sql }: { readonly sql: string }): boolean =>
  !/words\(|staging\.pair|tablesample/.test(sql);

/** A query's rows, whatever their order; an error's text where it has none. @param schema of the tables */
export async function rowsOf(client: pg.Client, schema: string, project: Project, table: string): Promise<string> {
  const of = project.tables.get(table) as Definition;
  const placeOf = (t: string) => (t.startsWith('landing.') ? { schema, name: t.slice('landing.'.length) } : undefined);
  const names = { placeOf, functionsSchema: schema };
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
