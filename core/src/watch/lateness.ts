import { judgeTable } from './judge.js';
import { learn, type Measured } from './learn.js';

/** The longest that a table had no newer rows before some came, on one day. */
export interface Wait extends Measured {
  /** Seconds: how old its newest row had become. */
  readonly value: number;
  /** Longer or shorter than what was usual then: nothing is learned from it, until three agree. */
  readonly isOutside?: boolean;
}

/** Older waits are forgotten. */
const MOST_WAITS = 120;
/** Of so many days one is said to be late falsely, where the past is as its model. */
const FALSE_DAYS = 10_000;
const DAY_MILLISECONDS = 86_400_000;

/** The day of an instant, as waits count them. */
export const waitDay = (at: Date): number => Math.floor(at.getTime() / DAY_MILLISECONDS);

/** What is known once newer rows have come: of several waits of one day the longest counts. */
export function waited(before: readonly Wait[], { day, value }: Measured): readonly Wait[] {
  const last = before.at(-1);
  if (last && last.day >= day && last.value >= value) return before;
  const earlier = before.filter((w) => w.day < day);
  const past = earlier.filter((w) => !w.isOutside);
  const outside = earlier.slice(earlier.findLastIndex((w) => !w.isOutside) + 1);
  const { verdict } = judgeTable([{ name: 'wait', scale: 'age', past, outside, now: { day, value } }]).series[0]!;
  if (verdict === 'outside') return [...earlier, { day, value, isOutside: true }].slice(-MOST_WAITS);
  // Three that agree are how it is from now on.
  const known = verdict === 'agreed' ? outside.slice(-2).map((w) => ({ day: w.day, value: w.value })) : earlier;
  return [...known, { day, value }].slice(-MOST_WAITS);
}

/**
 * How old a table's newest row may become on a day before that is unusual.
 * @returns seconds, in whole hours where it is longer than one, and from how many days they were learned; undefined
 * where too little is known
 */
export function usualWait(
  waits: readonly Wait[],
  day: number,
): { readonly seconds: number; readonly from: number } | undefined {
  const expected = learn(
    waits.filter((w) => !w.isOutside),
    day,
    { scale: 'age' },
  );
  if (!expected) return undefined;
  const { greatest } = expected.range(1 / FALSE_DAYS);
  const unit = greatest > 3600 ? 3600 : 60;
  return { seconds: Math.ceil(greatest / unit) * unit, from: expected.from };
}

const AS_INSTANT = /^(\d{4,}-\d\d-\d\d)(?:[ T](\d\d:\d\d(?::\d\d(?:\.\d+)?)?)(?:([+-]\d\d)(:?\d\d)?|Z)?)?$/;

/** The instant that a watermark is, as PostgreSQL writes dates and timestamps; one without a zone is of UTC. @returns undefined where it is none */
export function instantOfWatermark(text: string): Date | undefined {
  const found = AS_INSTANT.exec(text);
  if (!found) return undefined;
  const [, date, time = '00:00', hours, minutes] = found;
  const zone = hours ? `${hours}:${(minutes ?? '00').replace(':', '')}` : 'Z';
  const at = new Date(`${date}T${time.replace(/(\.\d{3})\d+/, '$1')}${zone}`);
  return Number.isNaN(at.getTime()) ? undefined : at;
}
