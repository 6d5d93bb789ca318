import { compileFunction, type Names } from '@ouvrage/core/compile';
import { functionsOf } from '@ouvrage/core/graph';
import { targetPlace } from '@ouvrage/core/load';
import type { Environment, Project, ProjectFunction } from '@ouvrage/core/model';
import type pg from 'pg';
import { Problem } from '../shared/problem.js';
import { isDatabaseError } from '../warehouse/sql-error.js';
import { type WarehouseService } from '../warehouse/warehouse.service.js';

/** What tells that a function would do more than read: a read-only transaction, a missing right, a statement that stable functions may not run. */
const DOES_MORE = ['25006', '42501', '0A000'];
const SECONDS = 5;

/** Functions that are new, or whose text differs from production's. */
function changedFunctions(before: Project, after: Project, tables: Iterable<string>): ProjectFunction[] {
  const text = (project: Project, f: ProjectFunction | undefined) =>
    f && project.files.get(f.path)!.text.slice(f.range.start, f.range.end);
  return functionsOf(after, tables).filter((f) => text(before, before.functions.get(f.name)) !== text(after, f));
}

export interface FirstRun {
  readonly warehouse: WarehouseService;
  readonly before: Project;
  readonly after: Project;
  readonly production: Environment;
  /** Of the workspace that is released. */
  readonly workspace: Environment;
  /** Ends what is running when the release is stopped. */
  readonly signal: AbortSignal;
}

/**
 * Runs each new function of a release once as the workspace builder, read-only and for some seconds at most, before
 * the production builder ever does. What its arguments are does not matter: nulls of their types.
 * @throws Problem where one does more than read
 */
export async function runFirst(
  { warehouse, before, after, production, workspace, signal }: FirstRun,
  tables: Iterable<string>,
): Promise<void> {
  const functions = changedFunctions(before, after, tables);
  if (functions.length === 0) return;
  const functionsSchema = workspace.schemaOf('functions');
  const names: Names = { placeOf: (table) => targetPlace(production, after.tables.get(table)!), functionsSchema };
  const run = async (client: pg.ClientBase): Promise<void> => {
    await client.query(`begin; set local statement_timeout = '${SECONDS}s'`);
    for (const f of functions) {
      if (signal.aborted) throw new Problem(499, 'stopped', 'Stopped before anything was built');
      await runOne(client, after, f, names);
    }
  };
  await warehouse.trial('workspace', run, signal);
}

async function runOne(client: pg.ClientBase, after: Project, f: ProjectFunction, names: Names): Promise<void> {
  await client.query('savepoint before_function');
  try {
    await client.query(compileFunction(after, f, names));
    const { rows } = await client.query<{ call: string }>(
      `select format('select %s(%s)', p.oid::regproc, (select string_agg(format('null::%s', format_type(t.type, null)), ', ' order by t.n) from unnest(p.proargtypes) with ordinality as t (type, n))) as call
from pg_proc as p join pg_namespace as n on n.oid = p.pronamespace where n.nspname = $1 and p.proname = $2`,
      [names.functionsSchema, f.name],
    );
    await client.query('savepoint before_call; set local transaction_read_only = on');
    for (const { call } of rows) await client.query(call);
  } catch (error) {
    // Its tables may not be there yet, and nulls may not be what it takes: then it is run where the release builds.
    if (isDatabaseError(error) && DOES_MORE.includes(error.code ?? ''))
      throw new Problem(
        409,
        'does-more',
        `functions.${f.name} would do more than read: ${error.message}`,
        `Correct ${f.path}; none of it was run in production.`,
      );
  } finally {
    // What a function may write again ends with the savepoint.
    await client.query('rollback to savepoint before_function');
  }
}
