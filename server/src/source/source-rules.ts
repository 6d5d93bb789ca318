import { watermarkOf, type Drift } from '@ouvrage/core/intake';
import { WAREHOUSE_SERVER } from '@ouvrage/core/model';
import { qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { conditionProblems } from '@ouvrage/core/resolve';
import { Problem } from '../shared/problem.js';
import type { Project, SourceTable, Place, Table } from '@ouvrage/core/model';
/** @throws Problem for a table whose declaration has errors: what it says is not run */
export function refuseErrors(project: Project, table: SourceTable): void {
  const { start, end } = table.contract.range;
  const error = project.diagnostics.find(
    (d) => d.severity === 'error' && d.path === table.path && d.range.start < end && d.range.end > start,
  );
  if (error)
    throw new Problem(
      422,
      'table-errors',
      `${table.fullName} is declared with an error: ${error.message}`,
      error.hint ?? `Correct it in ${table.path}.`,
    );
  refuseCondition(table);
}

/** The condition of a source is put into a statement that its system runs: it is one condition that only reads. */
export function refuseCondition(table: SourceTable): void {
  const only = table.contract.options.get('only')?.value;
  const [problem] =
    only === undefined
      ? []
      : conditionProblems(
          only,
          table.name,
          table.contract.columns.map((c) => c.name),
        );
  if (problem)
    throw new Problem(
      422,
      'table-errors',
      `${table.fullName}, option only: ${problem}`,
      `Correct it in ${table.path}.`,
    );
}

/** Files of a drop folder come by themselves. */
export const isBroughtIn = (project: Project, server: string) => project.servers.get(server)?.wrapper !== 'file_fdw';

/** True where the landing table is there with the declared columns and types, so that rows can be added to it. */
export async function sameColumns(
  client: pg.ClientBase,
  target: { schema: string; name: string },
  table: SourceTable,
): Promise<boolean> {
  const { rows } = await client.query<{ same: boolean }>(
    `select array_agg(a.attname::text order by a.attname) = (select array_agg(n order by n) from unnest($2::text[]) n)
       and bool_and(a.atttypid = (select format('%s', t)::regtype from unnest($2::text[], $3::text[]) d (n, t) where d.n = a.attname)) as same
     from pg_attribute a where a.attrelid = to_regclass($1) and a.attnum > 0 and not a.attisdropped`,
    [
      qualified(target),
      table.contract.columns.map((c) => c.name),
      table.contract.columns.map((c) => c.type.replace(/\(.*?\)/, '')),
    ],
  );
  return rows[0]?.same ?? false;
}

/** Whether a landing table is there and has a column. */
export async function hasColumn(client: pg.ClientBase, target: Place, column: string): Promise<boolean> {
  const { rowCount } = await client.query(
    `select from pg_attribute where attrelid = to_regclass($1) and attname = $2 and attnum > 0 and not attisdropped`,
    [qualified(target), column],
  );
  return rowCount === 1;
}

/** Options of a source table that say which rows are its rows. */
const ROWS_ARE = ['schema_name', 'table_name', 'only', 'intake', 'watermark'];

/** Whether a source table that is declared otherwise than before still has the same rows, brought in past a watermark: then only its columns changed. */
export function keepsLanded(before: Table | undefined, after: SourceTable): boolean {
  if (
    before?.kind !== 'source' ||
    before.server !== after.server ||
    after.server === WAREHOUSE_SERVER ||
    watermarkOf(after) === undefined
  )
    return false;
  return ROWS_ARE.every((name) => before.contract.options.get(name)?.value === after.contract.options.get(name)?.value);
}

/** What of a drift a policy does not take, in words; undefined where the intake can go on. */
export function driftRefused(drift: Drift, policy: string): string | undefined {
  const told = [
    ...drift.dropped.map((name) => `the system no longer has a column for ${name}`),
    ...(policy === 'stop' ? drift.added.map((c) => `the system has a new column ${c.name} (${c.type})`) : []),
    ...(policy === 'stop'
      ? drift.retyped.map((c) => `${c.name} is declared ${c.declared} and is ${c.actual} there`)
      : []),
  ];
  return told.length ? told.join('; ') : undefined;
}
