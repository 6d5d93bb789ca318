import { columnWith, type Role, hasRole } from '../../language/roles.js';
import type { ColumnDeclaration } from '../../model/project.js';
import { ident, qualified } from '../../sql/quote.js';
import { columnBefore, type LoadBase } from './base.js';
import { keyMapTable, lastNumbersTable, numbering, numbersOf, rowHash, type KeyMap } from '../../keys/keys.js';
import type { Place } from '../../model/place.js';
import type { LoadStatement } from '../../compile/steps.js';
import { type Target } from '../../compile/target.js';

/** Roles of columns that rows can be given afterwards: their values come from the rows themselves. */
export const GIVEN_LATE: readonly Role[] = ['surrogate key', 'durable key', 'row hash', 'version number'];

/**
 * Gives rows that are copied what the contract's load fills since it has more columns: numbers of keys, hashes of
 * rows, numbers of versions.
 * @param own where the copy is
 */
export function lateColumns(
  target: Target,
  maps: readonly KeyMap[],
  own: Place,
  base: Extract<LoadBase, { readonly kind: 'copy' }>,
): LoadStatement[] {
  const late = target.columns.filter((c) => hasRole(c, ...GIVEN_LATE) && columnBefore(c, base) === undefined);
  if (late.length === 0) return [];
  const numbered = maps.filter((m) => late.includes(m.column));
  const table = qualified(own);
  const surrogate = target.columns.find((c) => hasRole(c, 'surrogate key') && !late.includes(c));
  // The unknown member is nobody: its key is no key.
  const somebody = surrogate ? `t.${ident(surrogate.name)} <> 0` : 'true';
  const numbers = numbersOf(numbered, 't');
  const [validFrom, key] = [columnWith(target, 'valid from'), target.key.map((k) => `t.${ident(k)}`)];
  const valueOf = (c: ColumnDeclaration, ofNobody: boolean): string => {
    if (hasRole(c, 'row hash')) return rowHash(target, c, (of) => `t.${ident(of.name)}`);
    if (!hasRole(c, 'version number')) return ofNobody ? '0' : numbers.of(c)!;
    return ofNobody
      ? '1'
      : `cast(row_number() over (partition by ${key.join(', ')} order by t.${ident(validFrom!)}) as ${c.type})`;
  };
  const given = late.map((c) => `${valueOf(c, false)} as ${ident(c.name)}`).join(', ');
  const set = late.map((c) => `${ident(c.name)} = g.${ident(c.name)}`).join(', ');
  const ofNobody = late.map((c) => `${ident(c.name)} = ${valueOf(c, true)}`).join(', ');
  const statements = [
    ...numbered
      .filter((m) => m.method === 'sequence')
      .flatMap((m) => [
        keyMapTable(m),
        lastNumbersTable(m.last),
        ...numbering(m, `(select * from ${table} as t where ${somebody})`),
      ]),
    `update ${table} as t\nset ${set}\nfrom (select t.ctid as row$, ${given} from ${table} as t${numbers.join}\nwhere ${somebody}) as g\nwhere g.row$ = t.ctid`,
    ...(surrogate ? [`update ${table} as t\nset ${ofNobody}\nwhere t.${ident(surrogate.name)} = 0`] : []),
  ];
  return statements.map((sql) => ({ kind: 'build', sql }));
}
