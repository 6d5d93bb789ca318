import { formatDistanceStrict } from 'date-fns';
import { present } from '../data/time';

/** `1,204`; the number may come as text so that no digit is lost. */
export function count(n: number | string | null | undefined): string {
  if (n === null || n === undefined) return '–';
  return withDigits(0, typeof n === 'number' ? 3 : 20).format(n as number);
}

const formats = new Map<string, Intl.NumberFormat>();

/** Numbers with separators; texts are formatted digit by digit, so that none is lost. */
function withDigits(least: number, most: number): Intl.NumberFormat {
  const key = `${least} ${most}`;
  const known = formats.get(key);
  if (known) return known;
  const made = new Intl.NumberFormat('en', { minimumFractionDigits: least, maximumFractionDigits: most });
  formats.set(key, made);
  return made;
}

/** `1 row`, `1,204 rows`. */
export function rows(n: number | string | null | undefined): string {
  return `${count(n)} ${String(n) === '1' ? 'row' : 'rows'}`;
}

export function plural(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`;
}

/** `84 ms`, `1.2 s`, `3 min 20 s`. */
export function duration(milliseconds: number | null | undefined): string {
  if (milliseconds === null || milliseconds === undefined) return '–';
  if (milliseconds < 1000) return `${Math.round(milliseconds)} ms`;
  if (milliseconds < 60_000) return `${(milliseconds / 1000).toFixed(1)} s`;
  return `${Math.floor(milliseconds / 60_000)} min ${Math.round((milliseconds % 60_000) / 1000)} s`;
}

/** `under 1 MB`, `12 MB`, `1.4 GB`; a megabyte is a million bytes. */
export function diskSize(bytes: number): string {
  if (bytes < 1e6) return 'under 1 MB';
  return bytes < 1e9 ? `${count(Math.round(bytes / 1e6))} MB` : `${count(Math.round(bytes / 1e8) / 10)} GB`;
}

export function between(from: string | null, to: string | null): number | null {
  return from ? new Date(to ?? present()).getTime() - new Date(from).getTime() : null;
}

/** `6 minutes ago`. */
export function ago(at: string | null | undefined): string {
  return at ? `${formatDistanceStrict(new Date(at), present())} ago` : 'never';
}

/** `2026-03-01 14:05`. */
export function moment(at: string | null | undefined): string {
  return at ? MOMENTS.format(new Date(at)) : '–';
}

const DAY_MILLISECONDS = 86_400_000;

/** When something was, as shortly as it can be told: `04:31` of today, `yesterday`, `2026-03-01`. */
export function when(at: string | null | undefined): string {
  if (!at) return '–';
  const days = [at, present(), present() - DAY_MILLISECONDS].map((t) => moment(new Date(t).toISOString()).slice(0, 10));
  if (days[0] === days[1]) return moment(at).slice(11);
  return days[0] === days[2] ? 'yesterday' : days[0]!;
}

const DAYS = new Intl.DateTimeFormat('en-GB', { weekday: 'long', day: 'numeric', month: 'long' });

/** `Friday 4 March`. @param at milliseconds */
export const dayWords = (at: number): string => DAYS.format(at).replace(',', '');

/** The Swedish way of writing is ISO 8601’s. */
const MOMENTS = new Intl.DateTimeFormat('sv', { dateStyle: 'short', timeStyle: 'short' });

export const shortCommit = (id: string) => id.slice(0, 7);

const NUMERIC = /^(smallint|integer|bigint|numeric|real|double precision|money)/;
export const isNumeric = (type: string | undefined) => NUMERIC.test(type ?? '');

/** More are left as they are. */
const MOST_FRACTION_DIGITS = 100;

/** A number with separators for reading; whatever is no plain number stays as it is. */
export function cell(value: string, type: string): string {
  if (!/^(integer|bigint|numeric)/.test(type) || !/^-?\d+(\.\d+)?$/.test(value)) return value;
  const digits = value.split('.')[1]?.length ?? 0;
  return digits > MOST_FRACTION_DIGITS ? value : withDigits(digits, digits).format(value as unknown as number);
}

/** A share between 0 and 1, as `98 %`; what is not quite all is never said to be all. */
export const percent = (share: number) => `${share < 1 ? Math.min(99, Math.round(share * 100)) : 100} %`;
