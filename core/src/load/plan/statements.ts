import { compileText } from '../../compile/compile.js';
import type { PlanContext } from './context.js';
import { constraintStatement } from '../../check/constraint-statement.js';
import type { ConstraintCheck } from '../../check/constraint-checks.js';
import type { Names } from '../../compile/compile.js';
import { localSet, beforeStatementsOf } from '../../compile/before.js';
import type { Definition, Project, ReferenceTable, Table } from '../../model/project.js';
import { qualified, literal, ident, idents } from '../../sql/quote.js';
import type { LoadStatement } from '../../compile/steps.js';
import type { Place, Environment } from '../../model/place.js';
export const analyze = (place: Place): LoadStatement => ({ kind: 'analyze', sql: `analyze ${qualified(place)}` });

/** The settings that every statement of the warehouse runs under. */
export const SESSION_SETTINGS: readonly string[] = [
  "set local timezone = 'UTC'",
  'set local search_path = pg_catalog, extensions',
];

export function sessionStatements(settings: ReadonlyMap<string, string>): LoadStatement[] {
  return [
    ...SESSION_SETTINGS.map((sql): LoadStatement => ({ kind: 'session', sql })),
    ...[...settings].map(([name, value]): LoadStatement => ({
      kind: 'session',
      sql: `select set_config(${literal(name)}, ${literal(value)}, true)`,
    })),
  ];
}

export function usedSettings(table: Definition, settings: ReadonlyMap<string, string>): Map<string, string> {
  const used = new Set(table.query?.settings.map((s) => s.setting));
  const options = [...(table.contract?.options.values() ?? [])].map((o) => o.value).join('\n');
  return new Map([...settings].filter(([name]) => used.has(name) || options.includes(name)));
}

/** What `set` before the contract says. */
export function beforeStatements(project: Project, table: Definition): LoadStatement[] {
  const { text } = project.files.get(table.path)!;
  return table.before.map((s) => ({
    kind: 'session',
    sql: localSet(text.slice(s.start, s.end)),
    author: { path: table.path, original: () => s.start },
  }));
}

/** The option `before`: in the load's transaction, before the query, when the table is there to be changed. */
export function beforeQuery(table: Definition, names: Names): LoadStatement[] {
  const option = table.contract?.options.get('before');
  if (!option) return [];
  const author = { path: table.path, original: () => option.range.start };
  return beforeStatementsOf(option.value, names).map((sql): LoadStatement => ({ kind: 'before', sql, author }));
}

/** Columns of the contract, or of the header as text; the order is the contract's. */
export function createReference(table: ReferenceTable, place: Place): string {
  const columns = table.contract?.columns ?? table.header.map((name) => ({ name, type: 'text' }));
  return `create table ${qualified(place)} (\n  ${columns.map((c) => `${ident(c.name)} ${c.type}`).join(',\n  ')}\n)`;
}

export function constraintStatements(checks: readonly ConstraintCheck[], place: Place): LoadStatement[] {
  const sql = constraintStatement(checks, place);
  return sql === undefined ? [] : [{ kind: 'constraint', sql }];
}

/** Indexes and analyze as written; grants only in production, where the granted roles are meant. */
export function afterStatements(context: PlanContext, table: Table, names: Names): LoadStatement[] {
  const own: Table | undefined = context.project.tables.get(table.fullName);
  const after = own?.kind === 'definition' ? own.after : [];
  const file = context.project.files.get(table.path);
  if (!file) return [];
  return after
    .filter((s) => s.kind !== 'grant' || context.environment.kind === 'production')
    .map((s) => {
      const compiled = compileText(file, s, { tables: s.tables, functions: [], settings: [] }, names);
      return { kind: s.kind, sql: compiled.text, author: { path: table.path, original: compiled.original } };
    });
}

export function commentStatements(
  table: Definition | ReferenceTable,
  place: Place,
  relation: 'table' | 'view',
): LoadStatement[] {
  const statements: LoadStatement[] = [];
  if (table.comment !== undefined)
    statements.push({
      kind: 'comment',
      sql: `comment on ${relation} ${qualified(place)} is ${literal(table.comment)}`,
    });
  const columns =
    table.kind === 'definition'
      ? table.columnComments
      : new Map(
          table.contract?.columns.flatMap((c) => (c.comment === undefined ? [] : [[c.name, c.comment] as const])),
        );
  for (const [column, comment] of columns) {
    statements.push({
      kind: 'comment',
      sql: `comment on column ${qualified(place)}.${ident(column)} is ${literal(comment)}`,
    });
  }
  return statements;
}

export function grantStatements(environment: Environment, place: Place): LoadStatement[] {
  if (environment.readers.length === 0) return [];
  return [{ kind: 'grant', sql: `grant select on ${qualified(place)} to ${idents(environment.readers)}` }];
}
