import type { MergeSpec, HistorySpec } from '../../language/spec.js';
import { qualified } from '../../sql/quote.js';
import { guard } from '../../compile/steps.js';
import { knownRows } from '../../keys/members.js';
import type { LoadStep } from '../../compile/steps.js';
import type { PolicyContext } from './context.js';
/**
 * Stops a load that would take more of what is open away than its contract allows, and shows the rows that would go.
 * @param lost which changes take a row away
 * @param open which rows `k` of the table are open
 */
export function lossGuard(
  context: PolicyContext<MergeSpec | HistorySpec>,
  changes: string,
  lost: string,
  open: string,
): LoadStep[] {
  const { target, own, spec } = context;
  const largest = spec.largestLoss;
  if (largest === undefined) return [];
  const known = `(select count(*) from ${knownRows(target, context)} as k where ${open})`;
  const amount = largest.endsWith('%') ? `${known} * ${Number(largest.slice(0, -1)) / 100}` : largest;
  return [
    guard(
      `select 1 from ${changes} where ${lost} having count(*) > ${amount}`,
      `the load would remove more than ${largest} of the rows`,
      'Check why the query returns so few rows; raise largest_loss if that is right.',
      `select t.* from ${qualified(own)} as t join (select row_id$ from ${changes} where ${lost}) as c on c.row_id$ = t.ctid`,
    ),
  ];
}
