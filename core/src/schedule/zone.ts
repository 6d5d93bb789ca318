import { nearest } from '../sql/nearest.js';

/** A day of the calendar. */
export interface Day {
  readonly year: number;
  /** 1 is January. */
  readonly month: number;
  readonly day: number;
}

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
const DAY = 24 * HOUR;

const formats = new Map<string, Intl.DateTimeFormat>();

function formatOf(zone: string): Intl.DateTimeFormat {
  let format = formats.get(zone);
  if (!format)
    formats.set(
      zone,
      (format = new Intl.DateTimeFormat('en-US', {
        timeZone: zone,
        hourCycle: 'h23',
        ...{ year: 'numeric', month: 'numeric', day: 'numeric', hour: 'numeric', minute: 'numeric', second: 'numeric' },
      })),
    );
  return format;
}

export function isZone(zone: string): boolean {
  try {
    // Offsets are no zones: they know no daylight saving.
    return !/^[+-]/.test(zone) && formatOf(zone).resolvedOptions().timeZone !== '';
  } catch {
    return false;
  }
}

/** The zone that was probably meant. */
export const nearestZone = (zone: string): string | undefined =>
  nearest(zone, [...Intl.supportedValuesOf('timeZone'), 'UTC']) ??
  Intl.supportedValuesOf('timeZone').find((z) => z.split('/').at(-1)!.toLowerCase() === zone.toLowerCase().trim());

/** What a clock on the wall shows at an instant, as if it were UTC, in milliseconds. */
export function wallAt(instant: number, zone: string): number {
  const parts: Partial<Record<Intl.DateTimeFormatPartTypes, number>> = {};
  for (const { type, value } of formatOf(zone).formatToParts(instant)) parts[type] = Number(value);
  const { year, month, day, hour, minute, second } = parts as Record<string, number>;
  return Date.UTC(year!, month! - 1, day, hour, minute, second);
}

/** The calendar's day at an instant. */
export const dayAt = (instant: number, zone: string): Day => dayOf(wallAt(instant, zone));

const dayOf = (wall: number): Day => {
  const date = new Date(wall);
  return { year: date.getUTCFullYear(), month: date.getUTCMonth() + 1, day: date.getUTCDate() };
};

export const wallOf = ({ year, month, day }: Day, hour = 0, minute = 0): number =>
  Date.UTC(year, month - 1, day, hour, minute);

/** The day after, or some days after. */
export const plusDays = (of: Day, days: number): Day => dayOf(wallOf(of) + days * DAY);

/** 0 is Sunday. */
export const weekdayOf = (of: Day): number => new Date(wallOf(of)).getUTCDay();

const offsetAt = (instant: number, zone: string): number => wallAt(instant, zone) - Math.floor(instant / 1000) * 1000;

/** The instants at which a clock on the wall shows a time: one, two where it goes back, none where it is put forward. */
export function instantsOf(wall: number, zone: string): readonly number[] {
  const [before, after] = [offsetAt(wall - DAY, zone), offsetAt(wall + DAY, zone)];
  if (before === after) return [wall - before];
  return [...new Set([wall - before, wall - after])].filter((i) => wallAt(i, zone) === wall).sort((a, b) => a - b);
}

/** The first instant behind the gap in which a time of the wall falls that does not exist. */
export function behindGap(wall: number, zone: string): number {
  const before = offsetAt(wall - DAY, zone);
  let [low, high] = [wall - DAY - before, wall + DAY - before];
  while (high - low > 1000) {
    const middle = Math.floor((low + high) / 2000) * 1000;
    if (offsetAt(middle, zone) === before) low = middle;
    else high = middle;
  }
  return high;
}

/** When the day of an instant began in a zone. */
export function startOfDay(instant: number, zone: string): number {
  const wall = wallOf(dayAt(instant, zone));
  return instantsOf(wall, zone)[0] ?? behindGap(wall, zone);
}
