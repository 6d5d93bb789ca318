import type { WatchFinding } from '@ouvrage/api/watch';
import { count, duration } from './format';

/** A value of a measure: shares in percent, ages in words, others as numbers. */
export function measured(measure: string, value: number): string {
  if (measure === 'age') return duration(value * 1000);
  if (/ share of /.test(measure)) return `${(value * 100).toFixed(value < 0.1 ? 2 : 1)} %`;
  return count(Number.isInteger(value) ? value : Number(value.toPrecision(5)));
}

/** `690 to 810`. */
export const rangeWords = (
  measure: string,
  { least, greatest }: { readonly least: number; readonly greatest: number },
) => `${measured(measure, roundedFor(measure, least))} to ${measured(measure, roundedFor(measure, greatest))}`;

/** Numbers of rows are whole. */
const roundedFor = (measure: string, value: number): number =>
  ['rows', 'added', 'changed', 'removed'].includes(measure) ? Math.round(value) : value;

/** `rows: 412, expected 690 to 810`. */
export const findingWords = (f: WatchFinding): string =>
  `${f.measure}: ${measured(f.measure, f.value)}, expected ${rangeWords(f.measure, f)}`;

/** How what is expected was learned. */
export const LEARNED: Readonly<Record<string, string>> = {
  level: 'as one level',
  weekday: 'by weekday',
  growth: 'as steady growth',
  'growth and weekday': 'as growth, by weekday',
};
