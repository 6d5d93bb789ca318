import type { Cron, CronField } from './cron.js';

const DAYS = ['Sundays', 'Mondays', 'Tuesdays', 'Wednesdays', 'Thursdays', 'Fridays', 'Saturdays'];
const MONTHS = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December',
];
/** Times of a day that are listed; more are told by their hours and minutes. */
const MOST_TIMES = 4;

const two = (n: number) => String(n).padStart(2, '0');

function listed(words: readonly string[]): string {
  return words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} and ${words.at(-1)!}`;
}

/** `1st`, `22nd`, `13th`. */
const ordinal = (n: number): string =>
  `${n}${n % 100 >= 11 && n % 100 <= 13 ? 'th' : (['th', 'st', 'nd', 'rd'][n % 10] ?? 'th')}`;

/** Whether values follow one another. */
const isRun = (values: readonly number[]): boolean =>
  values.length > 2 && values.at(-1)! - values[0]! === values.length - 1;

/** The step of a field that begins at its least value; undefined where its values are not a step apart. */
function stepOf({ values }: CronField, size: number): number | undefined {
  const step = values.length > 1 ? values[1]! - values[0]! : undefined;
  if (step === undefined || values[0] !== 0 || size % step !== 0 || values.length !== size / step) return undefined;
  return values.every((v, i) => v === i * step) ? step : undefined;
}

function timeWords({ minute, hour }: Cron): string {
  const { values: minutes } = minute;
  const { values: hours } = hour;
  if (minutes.length * hours.length <= MOST_TIMES)
    return `at ${listed(hours.flatMap((h) => minutes.map((m) => `${two(h)}:${two(m)}`)))}`;
  const within = minute.isAny
    ? 'every minute'
    : stepOf(minute, 60) !== undefined
      ? `every ${stepOf(minute, 60)} minutes`
      : `at ${listed(minutes.map((m) => `:${two(m)}`))}`;
  if (hour.isAny) return minutes.length === 1 ? `every hour at :${two(minutes[0]!)}` : within;
  const step = stepOf(hour, 24);
  if (step !== undefined && minutes.length === 1)
    return minutes[0] === 0 ? `every ${step} hours` : `every ${step} hours at :${two(minutes[0]!)}`;
  return `${within} from ${isRun(hours) ? `${two(hours[0]!)}:00 to ${two(hours.at(-1)!)}:59` : `hours ${listed(hours.map(two))}`}`;
}

function dayWords({ day, month, weekday }: Cron): string {
  const names =
    weekday.values.length === 7
      ? ''
      : weekday.values.join() === '1,2,3,4,5'
        ? 'weekdays'
        : weekday.values.join() === '0,6'
          ? 'weekends'
          : // The week begins on Monday.
            listed([...weekday.values].sort((a, b) => ((a + 6) % 7) - ((b + 6) % 7)).map((d) => DAYS[d]!));
  const dates = day.values.length === 31 ? '' : `the ${listed(day.values.map(ordinal))}`;
  const months = month.values.length === 12 ? '' : listed(month.values.map((m) => MONTHS[m - 1]!));
  if (dates === '') return `${names || 'each day'}${months ? ` in ${months}` : ''}`;
  return `${names ? `${names} that are ` : 'on '}${dates} of ${months || 'the month'}`;
}

/** What a zone is called: `Paris time` of Europe/Paris. */
export const zoneWords = (zone: string): string =>
  zone === 'UTC' || zone === 'Etc/UTC' ? 'UTC' : `${zone.split('/').at(-1)!.replaceAll('_', ' ')} time`;

/** A schedule in words: `weekdays at 04:30, Paris time`. */
export function scheduleWords(cron: Cron, zone: string): string {
  const [days, time] = [dayWords(cron), timeWords(cron)];
  const isOften = time.startsWith('every') && days === 'each day';
  return `${isOften ? time : `${days} ${time}`}, ${zoneWords(zone)}`;
}
