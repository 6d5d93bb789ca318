import { literal, qualified } from '../sql/quote.js';
import type { Place } from './place.js';
import type { PolicyContext } from './policy.js';
import { CHANGES, type LoadStep } from './steps.js';
import { optionOf } from './target.js';

/** Tables with fewer rows are always changed in their place: making one anew costs more than it saves. */
const FEW_ROWS = 10_000;

/**
 * Changes a table in its place, or writes it anew beside and swaps, by the share of its rows that the
 * load has found to change; `shape` says it for good. A load that changes nothing writes nothing.
 * @param share above this share of the rows, writing all anew is faster
 * @param rewrite steps that make the table beside
 */
export function shapeSteps(context: PolicyContext, share: number, inPlace: readonly LoadStep[], rewrite: (beside: Place) => readonly LoadStep[]): LoadStep[] {
  const { target, own, beside } = context;
  const shape = optionOf(target.table, 'shape');
  if (!beside || shape === 'in_place') return [...inPlace];
  const rows = `select greatest(c.reltuples::bigint, 0) as of_rows, (select count(*) from ${CHANGES}) as changed from pg_class as c where c.oid = ${literal(qualified(own)).trim()}::regclass`;
  const condition = shape === 'rewrite' ? 'changed > 0' : `of_rows >= ${FEW_ROWS} and changed > ${share} * of_rows`;
  const reason = shape === 'rewrite' ? 'shape = rewrite' : `above ${share * 100} % all rows are written anew`;
  return [
    {
      step: 'choose',
      sql: `select ${condition} as rewrite,
  format('%s: %s of about %s rows change (${reason.replaceAll('%', '%%')})', case when ${condition} then 'written anew' else 'changed in place' end, changed, of_rows) as note
from (${rows}) as found`,
      inPlace,
      rewrite: rewrite(beside),
    },
  ];
}
