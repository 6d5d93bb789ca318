import type { Cron } from './cron.js';
import { behindGap, dayAt, type Day, instantsOf, plusDays, wallOf, weekdayOf } from './zone.js';

/** A schedule in a zone. */
export interface Schedule {
  readonly cron: Cron;
  readonly zone: string;
}

/** Days after which a schedule has no start any more: a 29 February that is a given weekday comes within 40 years. */
const MOST_DAYS = 366 * 41;

const holdsOn = ({ day, month, weekday }: Cron, of: Day): boolean =>
  month.values.includes(of.month) && day.values.includes(of.day) && weekday.values.includes(weekdayOf(of));

/** The starts of one day, in their order. */
function startsOn({ cron, zone }: Schedule, day: Day): number[] {
  const found = new Set<number>();
  for (const hour of cron.hour.values)
    for (const minute of cron.minute.values) {
      const wall = wallOf(day, hour, minute);
      const instants = instantsOf(wall, zone);
      if (!cron.hour.isFixed) for (const instant of instants) found.add(instant);
      else found.add(instants[0] ?? behindGap(wall, zone));
    }
  return [...found].sort((a, b) => a - b);
}

/**
 * The starts after an instant. At a fixed hour there is one where the hour exists twice, and where its time does not exist
 * it is the first instant after the gap; with `*` or a step there is one at each real instant.
 * @param after milliseconds since 1970
 */
export function* startsAfter(schedule: Schedule, after: number): Generator<number> {
  // What belongs to a day may be on the next one's clock, where a gap is at midnight.
  const first = plusDays(dayAt(after, schedule.zone), -1);
  for (let n = 0; n < MOST_DAYS; n++) {
    const day = plusDays(first, n);
    if (holdsOn(schedule.cron, day)) for (const start of startsOn(schedule, day)) if (start > after) yield start;
  }
}

/** The next starts after an instant. */
export function nextStarts(schedule: Schedule, after: number, most: number): number[] {
  const found: number[] = [];
  for (const start of startsAfter(schedule, after)) {
    if (found.length === most) break;
    found.push(start);
  }
  return found;
}

/** The starts after an instant up to another one. @param most the newest that are kept, where a server was down for long */
export function startsBetween(schedule: Schedule, [after, until]: readonly [number, number], most: number): number[] {
  const found: number[] = [];
  for (const start of startsAfter(schedule, after)) {
    if (start > until) break;
    found.push(start);
    if (found.length > most) found.shift();
  }
  return found;
}
