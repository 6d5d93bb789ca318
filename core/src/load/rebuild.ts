import { idents, qualified } from '../sql/quote.js';
import type { PolicyContext } from './policy.js';
import { createKeyMaps, keyMapsOf, newRow, numberKeys } from './keys.js';
import { completeMembers, lastMembers } from './members.js';
import { counts, ROWS, run, type LoadStep } from './steps.js';

/** All rows anew, where keys are given or looked up: the numbers of the key map stay from load to load. */
export function rebuildSteps(context: PolicyContext): LoadStep[] {
  const { target, own, home } = context;
  const maps = keyMapsOf(target, home);
  const row = newRow(target, maps, 'q');
  return [
    ...createKeyMaps(maps),
    ...completeMembers(target, context),
    ...numberKeys(maps, ROWS),
    run('build', `insert into ${qualified(own)} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${ROWS} as q${row.join}`),
    ...lastMembers(target, context),
    counts(ROWS, { inserted: 'true' }),
  ];
}
