import { isBuiltIn } from './import-tables.js';
import { remoteColumn, remotePlace } from '../model/source.js';
import type { SourceTable } from '../model/project.js';
import { ident, idents, literal, qualified } from '../sql/quote.js';
import { analyze, grantStatements } from '../load/plan/statements.js';
import { stagedPlace, targetPlace } from '../load/plan/context.js';
import { type LoadStatement } from '../compile/steps.js';
import type { Environment, Place } from '../model/place.js';
import { greatestWatermark } from '../compile/watermark.js';

/**
 * How a source table is brought in: its rows are copied into a table beside, which then becomes the
 * landing table (all rows), or is taken up into it (rows past a watermark). One transaction; nothing
 * shows before its commit.
 */
export interface IntakePlan {
  readonly target: Place;
  readonly staged: Place;
  /** Makes the table beside. */
  readonly build: string;
  /** Runs in the source's system: COPY out. */
  readonly readSql: string;
  /** COPY into the table beside. */
  readonly copySql: string;
  /** After the copy: constraints and so on of a full copy, or the statements that take new rows up. */
  readonly finish: readonly LoadStatement[];
  /** True where the table beside is swapped in; otherwise `finish` leaves nothing beside. */
  readonly swaps: boolean;
}

/** What of a source table is brought in. */
export interface IntakeScope {
  /** Only rows whose watermark is greater, as PostgreSQL writes the value; undefined for all rows. */
  readonly past?: string | undefined;
  /** At most so many rows, for trials. */
  readonly limit?: number | undefined;
}

const option = (table: SourceTable, name: string) => table.contract.options.get(name)?.value;

/** The column whose greatest value says how far a table has come; undefined for a full copy at each intake. */
export function watermarkOf(table: SourceTable): string | undefined {
  return option(table, 'intake') === 'incremental' ? option(table, 'watermark') : undefined;
}

/** A query for how far a landing table has come, less its look-back: one row, `past` as text or null. */
export function boundSql(table: SourceTable, target: Place): string | undefined {
  const column = watermarkOf(table);
  const type = table.contract.columns.find((c) => c.name === column)?.type;
  if (column === undefined || type === undefined) return undefined;
  return `select cast(${greatestWatermark(column, type, option(table, 'look_back'))} as text) as past from ${qualified(target)}`;
}

export function planIntake(environment: Environment, table: SourceTable, scope: IntakeScope = {}): IntakePlan {
  const target = targetPlace(environment, table);
  const staged = stagedPlace(environment, table);
  const { columns } = table.contract;
  const names = columns.map((c) => c.name);
  // Binary is 1.4 times as fast as text, and needs the same types on both sides.
  const format = columns.every((c) => isBuiltIn(c.type)) ? ' with (format binary)' : '';
  const notNull = scope.past === undefined;
  return {
    target,
    staged,
    build: `create table ${qualified(staged)} (\n  ${columns.map((c) => `${ident(c.name)} ${c.type}${notNull && c.notNull ? ' not null' : ''}`).join(',\n  ')}\n)`,
    readSql: `copy (${sourceQuery(table, scope)}) to stdout${format}`,
    copySql: `copy ${qualified(staged)} (${idents(names)}) from stdin${format}`,
    finish:
      scope.past === undefined ? finishFull(environment, table, staged) : takeUp(table, target, staged, scope.past),
    swaps: scope.past === undefined,
  };
}

/** A source table of the warehouse as a view beside, under its declared names and types, to be swapped in. */
export function planInPlace(
  environment: Environment,
  table: SourceTable,
): Pick<IntakePlan, 'target' | 'staged' | 'build' | 'finish'> {
  const staged = stagedPlace(environment, table);
  return {
    target: targetPlace(environment, table),
    staged,
    build: `create view ${qualified(staged)} as\n${sourceQuery(table)}`,
    finish: [
      ...(table.comment === undefined
        ? []
        : [{ kind: 'comment', sql: `comment on view ${qualified(staged)} is ${literal(table.comment)}` } as const]),
      ...grantStatements(environment, staged),
    ],
  };
}

/** The rows of a source table under their declared names and types, filtered as declared. */
export function sourceQuery(table: SourceTable, scope: IntakeScope = {}): string {
  const columns = table.contract.columns.map((c) => `cast(${ident(remoteColumn(c))} as ${c.type}) as ${ident(c.name)}`);
  const only = option(table, 'only');
  const column = watermarkOf(table);
  const limit = scope.limit ?? option(table, 'limit');
  const conditions = [
    ...(only === undefined ? [] : [`(${only}\n)`]),
    ...(scope.past === undefined || column === undefined ? [] : [`${ident(column)} > ${literal(scope.past)}`]),
  ];
  const rows = `select ${columns.join(', ')} from ${qualified(remotePlace(table))}`;
  const filtered = conditions.length
    ? `select * from (${rows}) as ${ident(table.name)} where ${conditions.join(' and ')}`
    : rows;
  return limit === undefined ? filtered : `${filtered} limit ${Number(limit)}`;
}

function finishFull(environment: Environment, table: SourceTable, staged: Place): LoadStatement[] {
  const key = table.contract.constraints.find((c) => c.kind === 'primary key');
  return [
    ...(key
      ? [
          {
            kind: 'constraint',
            sql: `alter table ${qualified(staged)} add constraint ${ident(key.name)} primary key (${idents(key.columns)})`,
          } as const,
        ]
      : []),
    analyze(staged),
    ...(table.comment === undefined
      ? []
      : [{ kind: 'comment', sql: `comment on table ${qualified(staged)} is ${literal(table.comment)}` } as const]),
    ...grantStatements(environment, staged),
  ];
}

/** Rows that come again replace those that were there: by the key, or, without one, all past the bound. */
function takeUp(table: SourceTable, target: Place, staged: Place, past: string): LoadStatement[] {
  const key = table.contract.constraints.find((c) => c.kind === 'primary key')?.columns;
  const names = idents(table.contract.columns.map((c) => c.name));
  const matches = key?.map((c) => `landed.${ident(c)} = fresh.${ident(c)}`).join(' and ');
  const again = matches
    ? `delete from ${qualified(target)} as landed using ${qualified(staged)} as fresh where ${matches}`
    : `delete from ${qualified(target)} where ${ident(watermarkOf(table)!)} > ${literal(past)}`;
  return [
    { kind: 'analyze', sql: `analyze ${qualified(staged)}` },
    { kind: 'build', sql: again },
    { kind: 'build', sql: `insert into ${qualified(target)} (${names}) select ${names} from ${qualified(staged)}` },
    { kind: 'build', sql: `drop table ${qualified(staged)}` },
    analyze(target),
  ];
}
