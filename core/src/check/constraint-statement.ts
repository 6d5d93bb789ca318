import { isEnforced, type ConstraintCheck } from './constraint-checks.js';
import { boundedName, ident, idents, isLongest, qualified } from '../sql/quote.js';
import type { Place } from '../model/place.js';

/**
 * Primary key, unique and not null become real constraints, unless they are advisory or tolerated;
 * check and references are only ever checked.
 * @returns the statement that adds them, if there are any
 */
export function constraintStatement(checks: readonly ConstraintCheck[], place: Place): string | undefined {
  const actions = checks.filter(isEnforced).flatMap((check) => {
    switch (check.kind) {
      case 'primary key':
        return `add constraint ${ident(realName(check, place))} primary key (${idents(check.columns)})`;
      case 'unique':
        return `add constraint ${ident(realName(check, place))} unique (${idents(check.columns)})`;
      case 'not null':
        return `alter column ${ident(check.columns[0]!)} set not null`;
      case 'check':
      case 'references':
        return [];
    }
  });
  return actions.length ? `alter table ${qualified(place)}\n  ${actions.join(',\n  ')}` : undefined;
}

/** The name in the catalog: that of the contract, but where names are as long as they may be. Those of two tables may have been cut to the same one. */
const realName = (check: ConstraintCheck, place: Place): string =>
  isLongest(check.name) ? boundedName(`${place.name}_${check.name}`) : check.name;
