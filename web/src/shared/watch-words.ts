import type { WatchFinding } from '@ouvrage/api/watch';
import { measureWords } from '@ouvrage/core/watch';

/** `690 to 810`. */
export const rangeWords = (
  measure: string,
  { least, greatest }: { readonly least: number; readonly greatest: number },
) => `${measureWords(measure, roundedFor(measure, least))} to ${measureWords(measure, roundedFor(measure, greatest))}`;

/** Numbers of rows are whole. */
const roundedFor = (measure: string, value: number): number =>
  ['rows', 'added', 'changed', 'removed'].includes(measure) ? Math.round(value) : value;

/** `rows: 412, expected 690 to 810`. */
export const findingWords = (f: WatchFinding): string =>
  `${f.measure}: ${measureWords(f.measure, f.value)}, expected ${rangeWords(f.measure, f)}`;

/** How what is expected was learned. */
export const LEARNED: Readonly<Record<string, string>> = {
  level: 'as one level',
  weekday: 'by weekday',
  growth: 'as steady growth',
  'growth and weekday': 'as growth, by weekday',
};
