import { idents, qualified } from '../sql/quote.js';
import type { PolicyContext } from './policy.js';
import { createKeyMap, keyMapOf, newRow, numberKeys, unknownMember } from './keys.js';
import { counts, ROWS, run, type LoadStep } from './steps.js';

/** All rows anew, where keys are given or looked up: the numbers of the key map stay from load to load. */
export function rebuildSteps({ target, own, home }: PolicyContext): LoadStep[] {
  const map = keyMapOf(target, home);
  const row = newRow(target, map, 'q');
  return [
    ...createKeyMap(map),
    ...numberKeys(map, ROWS),
    run('build', `insert into ${qualified(own)} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${ROWS} as q${row.join}`),
    ...unknownMember(target, own),
    counts(ROWS, { inserted: 'true' }),
  ];
}
