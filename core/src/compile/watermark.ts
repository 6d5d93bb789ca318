import { goesBackInTime } from '../language/type-fitness.js';
import { ident, literal } from '../sql/quote.js';

/** Types with values beyond all others: a row that has one would end all reading for ever. */
const UNBOUNDED = /^(date|timestamp|timestamptz|real|double precision|numeric)\b(?!.*\[)/;
const WHOLE = /^(smallint|integer|bigint)\b/;

/** A condition that a watermark is infinite or no number, over an expression; undefined for types that have no such values. */
export const isEndless = (value: string, type: string): string | undefined =>
  UNBOUNDED.test(type) ? `${value} >= 'infinity'` : undefined;

/** How far a table has come: the greatest watermark that is there, less the look-back, if there is one. */
export function greatestWatermark(column: string, type: string, back: string | undefined): string {
  const endless = isEndless(ident(column), type);
  const greatest = `max(${ident(column)})${endless === undefined ? '' : ` filter (where not ${endless})`}`;
  if (back === undefined) return greatest;
  if (goesBackInTime(type)) return `(${greatest} - interval ${literal(back)})`;
  return WHOLE.test(type)
    ? `floor(${greatest} - ${literal(back)}::numeric)`
    : `(${greatest} - ${literal(back)}::numeric)`;
}
