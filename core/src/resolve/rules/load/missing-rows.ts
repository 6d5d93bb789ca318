import { POLICIES } from '../../../language/policies.js';
import { specOf } from '../../../language/spec.js';
import type { LoadRule } from './load.js';

/** What happens to missing rows, and what guards against losing many of them. */
export const missingRows: LoadRule = (load) => {
  const { policy } = load.table;
  const { missingRows: possible, removesBy } = POLICIES[policy];
  const missing = load.option('missing_rows');
  const removes = missing !== undefined && missing.value !== 'keep';
  if (missing?.value === 'flag' && !load.withRole('deleted flag'))
    load.report(
      'missing_rows = flag needs a column with the role deleted flag',
      "write options (role 'deleted flag') on a boolean column",
      missing.range,
    );
  if (missing && possible.length && !possible.includes(missing.value))
    load.report(
      `load = ${policy} does not support missing_rows = ${missing.value}`,
      `use ${possible.join(', ')}`,
      missing.range,
    );
  if (missing && specOf(load.table).kind === 'events')
    load.report(
      'missing_rows means nothing to a history from events: a key without events says nothing',
      'leave missing_rows or effective_from out',
      missing.range,
    );
  const loss = load.option('largest_loss');
  if (loss && possible.length && !removes && !load.option('delete_when'))
    load.report('largest_loss has nothing to guard: this load removes no row', `write ${removesBy}`, loss.range);
  if (removes && load.around.partial.length)
    load.report(
      `missing_rows = ${missing.value} needs the whole truth, but ${load.around.partial.join(', ')} is loaded incrementally`,
      'use missing_rows = keep, or bring the source in in full',
      missing.range,
    );
};
