import type { ColumnDeclaration, Definition, Project } from '../project/model.js';
import { ident } from '../sql/quote.js';
import type { Names } from './compile.js';
import { hashOf, rowHash } from './keys.js';
import { lookUpJoin } from './look-ups.js';
import { targetOf, type Target } from './target.js';

/**
 * Values for the columns that a load fills, while its table is not there and its query is read in its
 * place. Hashes of business keys stand for surrogate keys on both sides, so that joins over them hold.
 * @returns values over `q`, the query's row, by column, and the joins that they need
 */
export function standInColumns(project: Project, table: Definition, names: Names): { readonly values: ReadonlyMap<string, string>; readonly joins: string } {
  const target = targetOf(project, table);
  const values = new Map<string, string>();
  let joins = '';
  for (const [i, lookUp] of target.lookUps.entries()) {
    const known = names.placeOf(lookUp.dimension.fullName) ? lookUpJoin(project, names, lookUp, i) : undefined;
    joins += known?.sql ?? '';
    values.set(lookUp.column.name, known ? `coalesce(${known.value}, 0)` : hashOf(lookUp.by.map((by) => `q.${ident(by)}`)));
  }
  for (const column of target.columns) {
    const value = standIn(target, column);
    if (value !== undefined) values.set(column.name, value);
  }
  for (const column of target.columns.filter((c) => c.options['role'] === 'row hash')) {
    values.set(
      column.name,
      rowHash(target, column, (c) => values.get(c.name) ?? `q.${ident(c.name)}`),
    );
  }
  return { values, joins };
}

function standIn(target: Target, column: ColumnDeclaration): string | undefined {
  if (column.options['on_change'] === 'previous') return 'null';
  switch (column.options['role']) {
    case 'surrogate key':
    case 'durable key':
      return hashOf(target.key.map((k) => `q.${ident(k)}`));
    case 'valid from':
      return "'-infinity'";
    case 'valid to':
    case 'run id':
      return 'null';
    case 'current flag':
      return 'true';
    case 'version number':
      return '1';
    case 'loaded at':
      return 'now()';
    case 'deleted flag':
      return 'false';
    default:
      return undefined;
  }
}
