import { constraintRange } from '../index/contract.js';
import { ident } from '../sql/quote.js';
import type { Project, Table } from '../model/project.js';
import type { Range } from '../sql/positions.js';

/** A condition of a file as a statement that the database can prepare, so that it tells what it thinks of the types. */
export interface ConditionProbe {
  /** `option only of landing.berth`. */
  readonly what: string;
  /** Where the author wrote it. */
  readonly range: Range;
  /** Returns no row. */
  readonly sql: string;
}

/** The conditions of a file's contracts and sources: checks, and which rows to bring in. */
export function conditionProbes(project: Project, path: string): ConditionProbe[] {
  return [...project.tables.values()].flatMap((table) =>
    table.path === path ? probesOf(table, project.files.get(path)!.text) : [],
  );
}

function probesOf(table: Table, text: string): ConditionProbe[] {
  const { contract } = table;
  if (!contract) return [];
  const columns = contract.columns.map((c) => `null::${c.type} as ${ident(c.name)}`);
  const probe = (condition: string) =>
    `select from (select ${columns.join(', ')}) as ${ident(table.name)}\nwhere (${condition}\n) limit 0`;
  const only = table.kind === 'source' ? contract.options.get('only') : undefined;
  return [
    ...(only ? [{ what: `option only of ${table.fullName}`, range: only.range, sql: probe(only.value) }] : []),
    ...contract.constraints.flatMap((c) =>
      c.kind === 'check' && c.expression !== undefined && !c.expression.includes('functions.')
        ? [{ what: `constraint ${c.name}`, range: constraintRange(text, c.start), sql: probe(c.expression) }]
        : [],
    ),
  ];
}
