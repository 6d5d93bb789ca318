import type { ColumnShape } from '../model/profile.js';
import { ident, literal } from '../sql/quote.js';
import { keyProblem } from '../language/type-fitness.js';
import { familyOf, partsOf } from '../sql/types.js';
import type { PageColumn } from './page.js';

/** Steps of a histogram. */
export const HISTOGRAM_STEPS = 20;
export const PROFILE_QUANTILES = [0.05, 0.25, 0.5, 0.75, 0.95] as const;
const FREQUENT = 8;
const PATTERNS = 5;
/** Longer texts are cut: a profile shows what values look like, not the values. */
const LONGEST = 80;

export function shapeOf(type: string): ColumnShape {
  const family = familyOf(type);
  if (family === 'date') return 'instant';
  return family === 'interval' ? 'other' : family;
}

/**
 * A statement that profiles all columns, in one scan of the source: its rows are held once and each
 * column is computed from them. It returns one row, `profile` as jsonb in the shape of `Profile`.
 *
 * @param source what is in FROM, a sample of it included
 */
export function profileStatement(source: string, columns: readonly PageColumn[]): string {
  const parts = columns.map((c) => `(${columnSql(c)})`);
  return `with data as materialized (select ${columns.map((c) => ident(c.name)).join(', ')} from ${source} as source)
select jsonb_build_object('rows', (select count(*) from data), 'columns', jsonb_build_array(${parts.join(',\n')})) as profile`;
}

const CUT = (value: string) => `left(cast(${value} as text), ${LONGEST})`;

function columnSql(column: PageColumn): string {
  const shape = shapeOf(column.type);
  const value = ident(column.name);
  const comparable = keyProblem(column.type) === undefined;
  const orderable = shape !== 'other' && shape !== 'boolean';
  const number = `cast(${value} as numeric)`;
  const quantity = shape === 'number' ? finite(column, value) : undefined;
  const fields: Record<string, string> = {
    name: literalText(column.name),
    type: literalText(column.type),
    shape: literalText(shape),
    nulls: `count(*) - count(${value})`,
    distinct: comparable ? `count(distinct ${value})` : 'null',
    least: orderable ? CUT(`min(${value})`) : 'null',
    greatest: orderable ? CUT(`max(${value})`) : 'null',
    mean: quantity ? `cast(round(avg(${number}) filter (where ${quantity}), 6) as text)` : 'null',
    quantiles:
      shape === 'number' || shape === 'instant'
        ? `cast(percentile_disc(array[${PROFILE_QUANTILES.join(', ')}]) within group (order by ${value}) as text[])`
        : 'null',
    frequent: top(CUT(value), `${value} is not null`, FREQUENT),
    histogram:
      shape === 'number'
        ? histogram(number, quantity!)
        : shape === 'instant'
          ? histogram(`extract(epoch from ${value})`, `isfinite(${value})`)
          : 'null',
    lengths:
      shape === 'text'
        ? `case when count(${value}) > 0 then jsonb_build_object('least', min(length(${value})), 'mean', cast(round(avg(length(${value})), 2) as text), 'greatest', max(length(${value}))) end`
        : 'null',
    patterns:
      shape === 'text'
        ? top(
            `regexp_replace(regexp_replace(${CUT(value)}, '[[:alpha:]]', 'a', 'g'), '[0-9]', '9', 'g')`,
            `${value} is not null`,
            PATTERNS,
          )
        : 'null',
  };
  return `select jsonb_build_object(${Object.entries(fields)
    .map(([name, sql]) => `'${name}', ${sql}`)
    .join(', ')}) from data`;
}

const literalText = (text: string) => `${literal(text)}::text`;

/** Floating point has values that are no quantities. */
function finite(column: PageColumn, value: string): string {
  return ['real', 'double precision', 'numeric'].includes(partsOf(column.type).name)
    ? `${value} not in ('NaN', 'Infinity', '-Infinity')`
    : 'true';
}

function top(value: string, condition: string, most: number): string {
  return `(select coalesce(jsonb_agg(jsonb_build_array(v, n) order by n desc, v collate "C"), '[]') from (select ${value} as v, count(*) as n from data where ${condition} group by 1 order by count(*) desc, ${value} collate "C" limit ${most}) as f)`;
}

function histogram(quantity: string, condition: string): string {
  return `(select coalesce(jsonb_agg(jsonb_build_array(step, n) order by step), '[]') from (
    select case when low = high then 0 else least(floor((q - low) / (high - low) * ${HISTOGRAM_STEPS}), ${HISTOGRAM_STEPS - 1}) end::int as step, count(*) as n
    from (select q, min(q) over () as low, max(q) over () as high from (select ${quantity} as q from data where ${condition}) as quantities) as bounded where q is not null group by 1) as steps)`;
}
