import { idents, qualified } from '../../sql/quote.js';
import type { PolicyContext } from '../policy/context.js';
import { createKeyMaps, keyMapsOf, newRow, numberKeys } from '../../keys/keys.js';
import { completeMembers, lastMembers } from '../../keys/members.js';
import { counts, ROWS, run, type LoadStep } from '../../compile/steps.js';
import { emptyTable, storage } from '../../compile/target.js';
import { readsDirectly } from '../../keys/direct.js';
import { lookUpChecks } from '../../keys/look-ups.js';

/**
 * All rows again, where keys are given or looked up: the numbers of the key map stay from load to load. The
 * table is made by these steps, from its query: several workers can answer that, and cannot where rows are inserted.
 */
export function rebuildSteps(context: PolicyContext): LoadStep[] {
  const { target, own, home } = context;
  const maps = keyMapsOf(target, home);
  const row = newRow(target, maps, 'q');
  const place = qualified(own);
  const rows = `select ${row.items}\nfrom ${ROWS} as q${row.join}`;
  return [
    ...createKeyMaps(maps),
    // Placeholders make room for their members where the table is there.
    ...(target.isInferred ? [run('build', emptyTable(target.table, own)), ...completeMembers(target, context)] : []),
    ...numberKeys(maps, ROWS),
    run(
      'build',
      target.isInferred
        ? `insert into ${place} (${idents(target.columns.map((c) => c.name))})\n${rows}`
        : `create table ${place}${storage(target.table)} as\n${rows}`,
    ),
    counts(place, { inserted: 'true' }),
    ...(readsDirectly(context) ? lookUpChecks(context, place) : []),
    ...lastMembers(target, context),
  ];
}
