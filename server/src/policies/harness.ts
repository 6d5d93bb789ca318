import { compileText, REMEMBERED, rememberedPlace, type LoadStep } from '@ouvrage/core/compile';
import { policyContext, policySteps, runSteps } from '@ouvrage/core/load';
import { stagedSchema, type Definition, type Place, type Project } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import { ident, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';

/** Runs the loads of one table of a small project, as a run does, against a scratch schema. */
export class LoadStopped extends Error {
  constructor(
    message: string,
    readonly rows: readonly Record<string, string | null>[],
  ) {
    super(message);
  }
}

export interface Loads {
  /** What the last load said of itself: whether the watermark's bound reaches the input, which shape it chose. */
  readonly note: () => string | undefined;
  /** One load in one transaction. @returns what it counted */
  load(time: string): Promise<Record<string, number>>;
  /** Empties the table and what is remembered beside it. */
  reset(): Promise<void>;
}

/** @param contract what is between `create table core.t (` and the query, with the closing options */
export function loadsOf(
  client: pg.Client,
  schema: string,
  contract: string,
  query: string,
  others: Readonly<Record<string, string>> = {},
): Promise<Loads> {
  return loadsIn(client, schema, { 'core/t.sql': `create table core.t (${contract};\n${query};`, ...others }, 't');
}

/** The loads of one table of the core layer. */
export async function loadsIn(
  client: pg.Client,
  schema: string,
  definitions: Readonly<Record<string, string>>,
  name: string,
): Promise<Loads> {
  const files = new Map([['layers.sql', 'create schema landing; create schema core;'], ...Object.entries(definitions)]);
  const project: Project = readProject(files);
  const wrong = project.diagnostics.filter((d) => d.severity === 'error');
  if (wrong.length) throw new Error(wrong.map((d) => `${d.path}: ${d.message} ${d.hint ?? ''}`).join('; '));
  const table = project.tables.get(`core.${name}`) as Definition;
  const placeOf = (name: string): Place => ({ schema, name: name.slice(name.indexOf('.') + 1) });
  const own = placeOf(table.fullName);
  const names = { placeOf, functionsSchema: schema };
  const staged: Place = { schema: stagedSchema(schema), name: table.name };
  const context = policyContext(
    project,
    table,
    { own, home: own, staged, names },
    {
      writable: ({ fullName }) => ({ own: placeOf(fullName), home: placeOf(fullName) }),
    },
  );
  const compiled = compileText(project.files.get(table.path)!, table.query!, table.query!, names);
  const columns = table.contract!.columns.map((c) => `${ident(c.name)} ${c.type}`).join(', ');
  let note: string | undefined;
  return {
    note: () => note,
    load: async (time) => {
      await client.query('begin');
      try {
        await client.query("select set_config('load.time', $1, true)", [time]);
        if (table.policy === 'rebuild') await client.query(`drop table if exists ${qualified(own)}`);
        const counted = await play(client, policySteps(context, compiled, table.path), (said) => (note = said));
        const { rows } = await client.query<{ there: string }>('select to_regclass($1) is not null as there', [
          qualified(staged),
        ]);
        if (String(rows[0]!.there).startsWith('t'))
          await client.query(
            `drop table ${qualified(own)}; alter table ${qualified(staged)} set schema ${ident(schema)}`,
          );
        await client.query('commit');
        return counted;
      } catch (error) {
        await client.query('rollback');
        throw error;
      }
    },
    reset: async () => {
      const places = [own, ...REMEMBERED.map((what) => rememberedPlace(own, what))];
      await client.query(
        `drop table if exists ${places.map(qualified).join(', ')}; create table ${qualified(own)} (${columns})`,
      );
    },
  };
}

type Row = Record<string, string | null>;

/** Runs the steps of a load on a connection. @returns what it counted */
async function play(
  client: pg.Client,
  steps: readonly LoadStep[],
  onNote: (note: string) => void,
): Promise<Record<string, number>> {
  const counted: Record<string, number> = {};
  const ask = async (sql: string): Promise<Row[]> => {
    try {
      return (await client.query<Row>(sql)).rows;
    } catch (error) {
      throw new Error(`${error instanceof Error ? error.message : String(error)}\n${sql}`, { cause: error });
    }
  };
  await runSteps(steps, {
    run: ({ sql }) => ask(sql),
    ask,
    attempt: async (sql) => {
      await client.query('savepoint before_attempt');
      return ask(sql).then(
        () => undefined,
        async (error: unknown) => {
          await client.query('rollback to savepoint before_attempt');
          return { code: ((error as Error).cause as { code?: string }).code, error };
        },
      );
    },
    stopped: async ({ message, rows }, found) =>
      new LoadStopped(message, rows === undefined ? (found as Row[]) : await ask(rows)),
    noted: onNote,
    counted: (name, n) => void (counted[name] = (counted[name] ?? 0) + n),
  });
  return counted;
}

/** Which physical rows a table holds: the same text twice means that nothing was written in between. */
export async function written(client: pg.Client, table: string): Promise<string> {
  const { rows } = await client.query<{ mark: string | null }>(
    `select md5(string_agg(xmin::text || ctid::text, ',' order by ctid)) as mark from ${table}`,
  );
  return rows[0]!.mark ?? '';
}
