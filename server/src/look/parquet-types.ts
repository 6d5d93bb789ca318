import type { PageColumn } from '@ouvrage/core/look';
import { ident } from '@ouvrage/core/sql';
import type { SchemaElement } from 'hyparquet';

/** How columns are kept in Parquet: as what they are, where it has a like for it, else as their text. */
export interface ParquetColumn {
  readonly element: SchemaElement;
  /** A value, written as PostgreSQL does, as its column keeps it. */
  readonly of: (text: string) => unknown;
}

/** Digits of a decimal that 8 bytes hold, and that 16 do. */
const [SHORT_DIGITS, MOST_DIGITS] = [18, 38];
const DAY = 86_400_000;

export function parquetColumn({ name, type }: PageColumn): ParquetColumn {
  const kept = (element: Omit<SchemaElement, 'name' | 'repetition_type'>, of: ParquetColumn['of']): ParquetColumn => ({
    element: { name, repetition_type: 'OPTIONAL', ...element },
    of,
  });
  if (/^(smallint|integer)$/.test(type)) return kept({ type: 'INT32' }, Number);
  if (type === 'bigint') return kept({ type: 'INT64' }, BigInt);
  if (type === 'real') return kept({ type: 'FLOAT' }, Number);
  if (type === 'double precision') return kept({ type: 'DOUBLE' }, Number);
  if (type === 'boolean') return kept({ type: 'BOOLEAN' }, (t) => t === 't');
  if (type === 'date') return kept({ type: 'INT32', converted_type: 'DATE' }, (t) => daysOf(t));
  const [, time, zoned] = /^(timestamp|time)(tz)?(?:\(\d\))?$/.exec(type) ?? [];
  if (time === 'timestamp')
    return kept(
      { type: 'INT64', logical_type: { type: 'TIMESTAMP', isAdjustedToUTC: zoned !== undefined, unit: 'MICROS' } },
      instantOf,
    );
  if (time === 'time' && zoned === undefined)
    return kept(
      {
        type: 'INT64',
        converted_type: 'TIME_MICROS',
        logical_type: { type: 'TIME', isAdjustedToUTC: false, unit: 'MICROS' },
      },
      microsOfDay,
    );
  const decimal = decimalOf(type);
  if (decimal) {
    const { precision, scale } = decimal;
    const size =
      precision <= SHORT_DIGITS
        ? ({ type: 'INT64' } as const)
        : ({ type: 'FIXED_LEN_BYTE_ARRAY', type_length: 16 } as const);
    return kept({ ...size, converted_type: 'DECIMAL', precision, scale }, (t) => unscaled(t, scale));
  }
  return kept({ type: 'BYTE_ARRAY', converted_type: 'UTF8' }, (t) => t);
}

function decimalOf(type: string): { precision: number; scale: number } | undefined {
  const [, precision, scale] = /^numeric\((\d+)(?:,(\d+))?\)$/.exec(type) ?? [];
  if (precision === undefined || Number(precision) > MOST_DIGITS) return undefined;
  return Number(scale ?? 0) > Number(precision)
    ? undefined
    : { precision: Number(precision), scale: Number(scale ?? 0) };
}

/** A condition that a column holds a value for which its kind in Parquet has no like; undefined where there is none. */
export function unfitCondition({ name, type }: PageColumn): string | undefined {
  if (/^(date|timestamp)/.test(type) && !type.includes('[')) return `not isfinite(${ident(name)})`;
  return decimalOf(type) ? `${ident(name)} = 'NaN'` : undefined;
}

/** Days since 1970, of `2026-03-01` and `0044-03-15 BC`. */
function daysOf(text: string): number {
  const [, year, month, day, bc] = /^(\d+)-(\d+)-(\d+)( BC)?/.exec(text) ?? [];
  const date = new Date(0);
  // The year before 1 is 1 BC.
  date.setUTCFullYear(bc === undefined ? Number(year) : 1 - Number(year), Number(month) - 1, Number(day));
  return date.getTime() / DAY;
}

/** Microseconds of `14:05:00.25`. */
function microsOfDay(text: string): bigint {
  const [, hours, minutes, seconds, fraction = ''] = /(\d+):(\d+):(\d+)(?:\.(\d+))?/.exec(text) ?? [];
  return (
    BigInt(Number(hours) * 3600 + Number(minutes) * 60 + Number(seconds)) * 1_000_000n + BigInt(fraction.padEnd(6, '0'))
  );
}

/** Microseconds since 1970, of an instant that is written in UTC. */
function instantOf(text: string): bigint {
  const [date = '', rest = ''] = text.split(' ');
  const days = daysOf(text.endsWith(' BC') ? `${date} BC` : date);
  return BigInt(days) * BigInt(DAY) * 1000n + microsOfDay(rest);
}

/** A decimal times ten to its scale. */
function unscaled(text: string, scale: number): bigint {
  const [whole = '', fraction = ''] = text.split('.');
  return BigInt(whole + fraction.padEnd(scale, '0'));
}
