import { plainIdent } from '../sql/quote.js';
import { familyOf } from '../sql/types.js';
import { named } from './text.js';

/** Stretches of time in which moments are put together. */
export const PERIODS = ['day', 'week', 'month', 'quarter', 'year'] as const;
export type Period = (typeof PERIODS)[number];

/** What one row of a result is for: a column, or the period in which a moment lies. */
export type GroupKey = string | { readonly column: string; readonly period: Period };

/** Whether values of a type lie in periods. */
export const hasPeriods = (type: string | undefined): boolean =>
  type !== undefined && ['date', 'instant'].includes(familyOf(type));

/** The first day of the period, as a date. */
export const periodSql = (column: string, period: Period): string =>
  `date_trunc('${period}', ${plainIdent(column)})::date`;

export const keySql = (key: GroupKey): string =>
  typeof key === 'string' ? plainIdent(key) : periodSql(key.column, key.period);

/** `called_at` by month is `called_month`. */
export const keyName = (key: GroupKey): string =>
  typeof key === 'string' ? key : `${key.column.replace(/_(at|on|date|time)$/, '')}_${key.period}`;

export const keyItem = (key: GroupKey): string => named(keySql(key), keyName(key));
