import type { Reading } from '@ouvrage/api/message';
import type { Severity } from '@ouvrage/core/language';

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
/** The minute of the day at which a day's messages are sent, in the reader's zone. */
const MORNING = 7 * 60;

type When = Pick<Reading, 'digest' | 'quietFrom' | 'quietTo' | 'zone'>;

/** The minute of the day that a clock in a zone shows. */
export function minuteOf(at: Date, zone: string): number {
  const parts = new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    hour: '2-digit',
    minute: '2-digit',
    hourCycle: 'h23',
  });
  const [hour, minute] = parts.format(at).split(':').map(Number);
  return hour! * 60 + minute!;
}

const minutes = (clock: string): number => {
  const [hour, minute] = clock.split(':').map(Number);
  return hour! * 60 + minute!;
};

/** The first instant from a time on at which a clock in a zone shows a minute of the day, to the minute. */
export function nextAt(from: Date, minute: number, zone: string): Date {
  const start = new Date(Math.ceil(from.getTime() / MINUTE) * MINUTE);
  // A clock that is put forward may not show the minute at all: the first one behind it counts.
  for (let at = start.getTime(), before = minuteOf(new Date(at - MINUTE), zone); at < start.getTime() + 49 * HOUR;) {
    const now = minuteOf(new Date(at), zone);
    if (now === minute || (before < minute && now > minute)) return new Date(at);
    // Steps of a quarter of an hour suffice until it is near: zones differ by whole quarters.
    const left = (minute - now + 1440) % 1440;
    const step = left > 75 ? 15 : 1;
    before = now;
    at += step * MINUTE;
  }
  return start;
}

/** Whether a minute of the day is within quiet hours; they may go past midnight. */
function isQuiet(minute: number, from: number, to: number): boolean {
  if (from === to) return false;
  return from < to ? minute >= from && minute < to : minute >= from || minute < to;
}

/**
 * When a mail is due: at once, with the others of its hour or its day, and not in quiet hours. What is critical passes
 * both.
 */
export function dueAt(now: Date, { digest, quietFrom, quietTo, zone }: When, severity: Severity): Date {
  if (severity === 'critical') return now;
  const due =
    digest === 'at once'
      ? now
      : digest === 'hour'
        ? new Date(Math.floor(now.getTime() / HOUR + 1) * HOUR)
        : nextAt(now, MORNING, zone);
  if (quietFrom === null || quietTo === null) return due;
  const [from, to] = [minutes(quietFrom), minutes(quietTo)];
  return isQuiet(minuteOf(due, zone), from, to) ? nextAt(due, to, zone) : due;
}
