import { literal } from '../sql/quote.js';

/**
 * How values become hashes. `as text` hashes what PostgreSQL writes, under which 1.0 and 1.00 differ; `as equal` gives
 * equal values equal hashes. A table keeps the way that it was loaded with until a release changes it.
 */
export type Hashing = 'as text' | 'as equal';
export const NEWEST_HASHING: Hashing = 'as equal';

/** Types whose equal values are written alike. */
const WRITTEN_ALIKE =
  /^(smallint|integer|bigint|text|varchar|character|name|date|timestamp|timestamptz|time|timetz|uuid|boolean|bytea|inet|cidr|macaddr|macaddr8|money|bit|varbit|bit varying|oid|tsvector|tsquery|xml|jsonpath|point|line|lseg|box|path|polygon|circle)(\(\d+\))?$/;

/** A value as a text that equal values share; null for null. */
function canonical(value: string, type: string, hashing: Hashing): string {
  if (hashing === 'as text' || WRITTEN_ALIKE.test(type)) return `${value}::text`;
  if (/^numeric(\([^)]*\))?$/.test(type)) return `trim_scale(${value})::text`;
  // Zero takes the sign off its negative.
  if (/^(real|double precision)$/.test(type)) return `(${value} + 0::${type})::text`;
  // PostgreSQL's own hashes of a row agree with its equality, whatever the type.
  const row = `row(${type === 'json' ? `(${value})::jsonb` : value})`;
  return `case when ${value} is not null then hash_record_extended(${row}, 0) || '.' || hash_record_extended(${row}, 1) end`;
}

/** A value and its type. */
export interface HashedPart {
  readonly value: string;
  readonly type: string;
}

/** Parts as one text, each with its length before it and a mark for null, so that no two lists look alike. */
export function joinedParts(parts: readonly HashedPart[], hashing: Hashing): string {
  const texts = parts.map(({ value, type }) => canonical(value, type, hashing));
  return texts.map((t) => `coalesce(length(${t}) || ':' || ${t}, '-')`).join(` || ${literal('/')} || `) || "''";
}

/** A 64-bit hash of parts. */
export const hashOf = (parts: readonly HashedPart[], hashing: Hashing = NEWEST_HASHING): string =>
  `hashtextextended(${joinedParts(parts, hashing)}, 0)`;
