import type { CheckQuery, Project } from '../model/project.js';
import { ident, idents, qualified } from '../sql/quote.js';
import type { Place } from '../model/place.js';
import { constraintChecks, type ConstraintCheck } from './constraint-checks.js';
import { policyChecks, type PolicyCheck } from './policy-checks.js';
import { readTolerance, type Tolerance } from '../language/tolerance.js';

/** A query of `checks/` that must return no row. */
export interface QueryCheck {
  readonly kind: 'query';
  /** `checks/calls_do_not_overlap`. */
  readonly id: string;
  readonly name: string;
  /** The table that the check is about; what is downstream of it stops when the check breaks. */
  readonly about?: string;
  /** All tables that the query reads. */
  readonly reads: readonly string[];
  readonly advisory: boolean;
  readonly tolerate?: Tolerance;
  readonly comment?: string;
}

export type Check = ConstraintCheck | PolicyCheck | QueryCheck;

export function queryCheck(check: CheckQuery): QueryCheck {
  const option = (name: string) => check.options.get(name)?.value;
  const tolerate = readTolerance(option('tolerate') ?? '');
  const about = option('about');
  return {
    kind: 'query',
    id: `checks/${check.name}`,
    name: check.name,
    reads: [...new Set(check.query.tables.map((t) => `${t.layer ?? ''}.${t.name}`))],
    advisory: ['true', 'on'].includes(option('advisory') ?? 'false'),
    ...(about === undefined ? {} : { about }),
    ...(tolerate ? { tolerate } : {}),
    ...(check.comment === undefined ? {} : { comment: check.comment }),
  };
}

/** Every check of the project. */
export function checksOf(project: Project): Check[] {
  return [
    ...[...project.tables.values()].flatMap((t) => [...constraintChecks(project, t), ...policyChecks(project, t)]),
    ...[...project.checks.values()].map(queryCheck),
  ];
}

/** The table that a check is about; empty for a query of `checks/` that reads none. */
export const tableOfCheck = (check: Check): string =>
  check.kind === 'query' ? (check.about ?? check.reads[0] ?? '') : check.table;

/** What a check says, in a few words. */
export function checkTitle(check: Check): string {
  switch (check.kind) {
    case 'not null':
      return `${check.columns.join(', ')} is never null`;
    case 'unique':
      return `${check.columns.join(', ')} is unique`;
    case 'primary key':
      return `${check.columns.join(', ')} is the key`;
    case 'check':
      return check.expression ?? check.name;
    case 'references':
      return `${check.columns.join(', ')} is known in ${check.references?.table ?? ''}`;
    case 'policy':
      return check.title;
    case 'query':
      return check.name.replaceAll('_', ' ');
  }
}

type PlaceOf = (table: string) => Place;
/** What stands for a table in a statement's FROM. */
type RelationOf = (table: string) => string;

/** The name under which a check's condition sees its table. */
const aliasOf = (check: ConstraintCheck) => ident(check.table.slice(check.table.indexOf('.') + 1));

/**
 * One statement that counts the rows at fault of all checks of one table: a single scan for the row
 * checks, a scalar query for each key and reference. Its row is `total, c0, c1, …` in the order of
 * the checks.
 */
export const countStatement = (checks: readonly ConstraintCheck[], table: string, placeOf: PlaceOf): string =>
  countOver(checks, table, (name) => qualified(placeOf(name)));

/** The same over whatever stands for the tables, as the name of a common table expression. */
export function countOver(checks: readonly ConstraintCheck[], table: string, relationOf: RelationOf): string {
  const counts = checks.map((check, i) => `${countExpression(check, relationOf)} as c${i}`);
  return `select ${['count(*) as total', ...counts].join(',\n       ')}\nfrom ${relationOf(table)} as ${ident(table.slice(table.indexOf('.') + 1))}`;
}

function countExpression(check: ConstraintCheck, relationOf: RelationOf): string {
  switch (check.kind) {
    case 'not null':
      return `count(*) filter (where ${butUnknown(check, anyNull(check.columns))})`;
    case 'check':
      return `count(*) filter (where ${butUnknown(check, `(${check.expression ?? 'true'}\n) is false`)})`;
    case 'unique':
      return repeatedCount(check, relationOf);
    case 'primary key':
      return `count(*) filter (where ${anyNull(check.columns)}) + ${repeatedCount(check, relationOf)}`;
    case 'references':
      return `(select count(*) from ${relationOf(check.table)} as ${aliasOf(check)} where ${butUnknown(check, unknownReference(check, relationOf))})`;
  }
}

/** A condition at fault, but not of a member that the source does not know. */
function butUnknown(check: ConstraintCheck, condition: string): string {
  if (check.exempt === undefined) return condition;
  const { surrogate, inferred } = check.exempt;
  const alias = aliasOf(check);
  const placeholder = inferred
    ? ` and (${inferred.key.map((k) => `${alias}.${ident(k)}`).join(', ')}) not in (select ${idents(inferred.key)} from ${qualified(inferred.place)})`
    : '';
  return `(${condition}) and ${alias}.${ident(surrogate)} <> 0${placeholder}`;
}
const anyNull = (columns: readonly string[]) => columns.map((c) => `${ident(c)} is null`).join(' or ');
const noNull = (columns: readonly string[]) => columns.map((c) => `${ident(c)} is not null`).join(' and ');

/** Rows of keys that stand more than once. Where all values are distinct, as nearly always, no groups are made. */
function repeatedCount(check: ConstraintCheck, relationOf: RelationOf): string {
  const rows = `(select coalesce(sum(n), 0) from (select count(*) as n from ${relationOf(check.table)} where ${noNull(check.columns)} group by ${idents(check.columns)} having count(*) > 1) as repeated)`;
  if (!check.sortsFast) return rows;
  const column = idents(check.columns);
  return `case when (select count(distinct ${column}) < count(${column}) from ${relationOf(check.table)}) then ${rows} else 0 end`;
}

function unknownReference(check: ConstraintCheck, relationOf: RelationOf): string {
  const { table, columns } = check.references!;
  const alias = aliasOf(check);
  const matches = check.columns.map((c, i) => `known.${ident(columns[i] ?? c)} = ${alias}.${ident(c)}`);
  return `${check.columns.map((c) => `${alias}.${ident(c)} is not null`).join(' and ')} and not exists (select from ${relationOf(table)} as known where ${matches.join(' and ')})`;
}

/** A statement that returns the rows at fault of one check. */
export function rowsStatement(check: ConstraintCheck, placeOf: PlaceOf, limit: number): string {
  const from = `select * from ${qualified(placeOf(check.table))} as ${aliasOf(check)}`;
  const repeated = () =>
    `(${idents(check.columns)}) in (select ${idents(check.columns)} from ${qualified(placeOf(check.table))} group by ${idents(check.columns)} having count(*) > 1)`;
  switch (check.kind) {
    case 'not null':
      return `${from}\nwhere ${butUnknown(check, anyNull(check.columns))}\nlimit ${limit}`;
    case 'check':
      return `${from}\nwhere ${butUnknown(check, `(${check.expression ?? 'true'}\n) is false`)}\nlimit ${limit}`;
    case 'unique':
      return `${from}\nwhere ${repeated()}\norder by ${idents(check.columns)}\nlimit ${limit}`;
    case 'primary key':
      return `${from}\nwhere ${anyNull(check.columns)} or ${repeated()}\norder by ${idents(check.columns)}\nlimit ${limit}`;
    case 'references':
      return `${from}\nwhere ${butUnknown(
        check,
        unknownReference(check, (name) => qualified(placeOf(name))),
      )}\nlimit ${limit}`;
  }
}

/** Count and rows of a query of `checks/`, from its compiled text. */
export function queryCheckStatements(
  compiled: string,
  limit: number,
): { readonly count: string; readonly rows: string } {
  return {
    count: `select count(*) as c0 from (\n${compiled}\n) as at_fault`,
    rows: `select * from (\n${compiled}\n) as at_fault limit ${limit}`,
  };
}
