import { POLICIES } from '../../../language/policies.js';
import { specOf } from '../../../language/spec.js';
import type { LoadRule } from './load.js';
import {
  flagNeedsColumn,
  missingRowsOfEvents,
  needsAllRows,
  nothingToGuard,
  unsupportedMissingRows,
} from './messages.js';

/** What happens to missing rows, and what guards against losing many of them. */
export const missingRows: LoadRule = (load) => {
  const { policy } = load.table;
  const { missingRows: possible, removesBy } = POLICIES[policy];
  const missing = load.option('missing_rows');
  const removes = missing !== undefined && missing.value !== 'keep';
  if (missing?.value === 'flag' && !load.withRole('deleted flag')) load.report(flagNeedsColumn, missing.range);
  if (missing && possible.length && !possible.includes(missing.value))
    load.report(unsupportedMissingRows(policy, missing.value, possible), missing.range);
  if (missing && specOf(load.table).kind === 'events') load.report(missingRowsOfEvents, missing.range);
  const loss = load.option('largest_loss');
  if (loss && possible.length && !removes && !load.option('delete_when'))
    load.report(nothingToGuard(removesBy!), loss.range);
  if (removes && load.around.partial.length)
    load.report(needsAllRows(missing.value, load.around.partial), missing.range);
};
