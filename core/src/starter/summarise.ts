import { plainIdent } from '../sql/quote.js';
import { keyItem, keyName, keySql, type GroupKey } from './periods.js';
import { condition, named, select } from './text.js';
import { tableText } from '../sql/quote.js';

export const MEASURES = ['count', 'distinct', 'sum', 'least', 'greatest', 'average', 'share'] as const;
export type MeasureKind = (typeof MEASURES)[number];

export interface Measure {
  readonly kind: MeasureKind;
  /** Left out for a count of rows. */
  readonly column?: string;
  readonly name: string;
  /** A null counts as 0 instead of not at all; for sums, averages and shares. */
  readonly nullIsZero?: boolean;
}

export interface SummariseChoices {
  readonly source: string;
  /** Columns, and periods in which moments of a column lie. */
  readonly by: readonly GroupKey[];
  readonly measures: readonly Measure[];
  readonly only?: string;
  /** Which groups stay, as SQL over aggregates. */
  readonly having?: string;
  /** The output column by which groups are sorted. */
  readonly order?: { readonly column: string; readonly descending: boolean };
  /** How many groups stay, in that order. */
  readonly most?: number;
}

/** One row a group with its measures. Without groups the whole table is one. */
export function summarise({ source, by, measures, only, having, order, most }: SummariseChoices): string {
  const items = [...by.map(keyItem), ...measures.map((m) => named(measureSql(m), m.name))];
  const names = by.map(keyName);
  const first = most === undefined ? '' : `, the first ${most}`;
  return `-- ${source}, ${by.length ? `one row per ${names.join(', ')}` : 'one row'}${first}; ${nullsSaid(measures)}\n${select(
    items,
    [
      `from ${tableText(source)}`,
      only ? `where ${condition(only)}` : '',
      by.length ? `group by ${by.map(keySql).join(', ')}` : '',
      having ? `having ${condition(having)}` : '',
      order ? `order by ${plainIdent(order.column)}${order.descending ? ' desc nulls last' : ''}` : '',
      most === undefined ? '' : `limit ${most}`,
    ],
  )}\n`;
}

export function nullsSaid(measures: readonly Measure[]): string {
  const zero = measures.filter((m) => m.nullIsZero).map((m) => m.name);
  return zero.length ? `a null counts as 0 in ${zero.join(', ')}, elsewhere nulls are ignored` : 'nulls are ignored';
}

/** The aggregate of a measure. A share is that of the group's sum in the sum of all groups. */
export function measureSql({ kind, column, nullIsZero }: Measure): string {
  const own = column === undefined ? '*' : plainIdent(column);
  const value = nullIsZero && column !== undefined ? `coalesce(${own}, 0)` : own;
  switch (kind) {
    case 'count':
      return `count(${own})`;
    case 'distinct':
      return `count(distinct ${own})`;
    case 'sum':
      return `sum(${value})`;
    case 'least':
      return `min(${own})`;
    case 'greatest':
      return `max(${own})`;
    case 'average':
      return `avg(${value})`;
    case 'share':
      return `sum(${value}) / nullif(sum(sum(${value})) over (), 0)`;
  }
}
