import { hasRole, columnOf } from '../../language/roles.js';
import type { ColumnDeclaration } from '../../model/project.js';
import { ident, qualified } from '../../sql/quote.js';
import { hashOf, type Hashing } from '../../compile/hashing.js';
import { keyMapsOf, rowHash } from '../../keys/keys.js';
import type { Place } from '../../model/place.js';
import type { LoadStatement } from '../../compile/steps.js';
import type { Target } from '../../compile/target.js';

/** The values of a table's hashed columns over a row `t`: of keys that are hashes, and hashes of rows. */
function hashedColumns(target: Target, of: (column: ColumnDeclaration) => string): Map<string, string> {
  const found = new Map<string, string>();
  for (const map of keyMapsOf(target, { schema: '', name: target.table.name })) {
    if (map.method !== 'hash') continue;
    const hash = hashOf(
      map.parts.map((p) => ({ value: of(p), type: p.type })),
      target.hashing,
    );
    found.set(map.column.name, map.column.type === 'bigint' ? hash : `cast(${hash} as ${map.column.type})`);
  }
  for (const c of target.columns) if (hasRole(c, 'row hash')) found.set(c.name, rowHash(target, c, of));
  return found;
}

const ofRow = (c: ColumnDeclaration) => `t.${ident(c.name)}`;
const hashedAs = (target: Target, hashing: Hashing, of = ofRow) => hashedColumns({ ...target, hashing }, of);

/** Columns whose hashes differ between the two ways. */
export function rehashedColumns(target: Target): string[] {
  const before = hashedAs(target, 'as text');
  return [...hashedAs(target, 'as equal')].flatMap(([name, sql]) => (before.get(name) === sql ? [] : [name]));
}

/** Gives the rows of a copy the hashes of today. The unknown member keeps its 0. @param own where the copy is */
export function rehash(target: Target, own: Place): LoadStatement[] {
  const columns = rehashedColumns(target);
  if (columns.length === 0) return [];
  const values = hashedAs(target, 'as equal');
  const key = columnOf(target.columns, 'surrogate key');
  const set = columns.map((name) => {
    const value = values.get(name)!;
    const isKey = hasRole(
      target.columns.find((c) => c.name === name)!,
      'surrogate key',
      'durable key',
    );
    return `${ident(name)} = ${isKey && key ? `case when t.${ident(key.name)} = 0 then 0 else ${value} end` : value}`;
  });
  return [{ kind: 'build', sql: `update ${qualified(own)} as t set ${set.join(', ')}` }];
}

/** A dimension as it is with its former keys, of which facts still hold some. */
export interface FormerDimension {
  readonly dimension: Target;
  readonly from: Place;
  /** The columns that it has there. */
  readonly columns: readonly string[];
}

/** Gives a fact's column the dimension's keys of today. */
export function rehashFact(own: Place, column: string, { dimension, from, columns }: FormerDimension): LoadStatement {
  const nameOf = (c: ColumnDeclaration) => ident(columns.includes(c.name) ? c.name : (c.options['was'] ?? c.name));
  const key = columnOf(dimension.columns, 'surrogate key')!;
  const value = hashedAs(dimension, 'as equal', (c) => `cast(t.${nameOf(c)} as ${c.type})`).get(key.name)!;
  return {
    kind: 'build',
    sql: `update ${qualified(own)} as f set ${ident(column)} = ${value}\nfrom ${qualified(from)} as t where f.${ident(column)} = t.${nameOf(key)} and t.${nameOf(key)} <> 0`,
  };
}
