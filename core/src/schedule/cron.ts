/** One field of a schedule: the values at which it holds. */
export interface CronField {
  /** In ascending order. */
  readonly values: readonly number[];
  /** Written as values and ranges alone, without `*` or a step. */
  readonly isFixed: boolean;
  /** `*`: it holds at every value. */
  readonly isAny: boolean;
}

/** When something starts, in five fields; all of them have to hold. */
export interface Cron {
  readonly minute: CronField;
  readonly hour: CronField;
  readonly day: CronField;
  readonly month: CronField;
  /** 0 is Sunday. */
  readonly weekday: CronField;
}

/** What is wrong with a schedule, and what may have been meant. */
export interface CronProblem {
  readonly message: string;
  readonly hint: string;
}

const MONTHS = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];
const WEEKDAYS = ['sun', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat'];

interface FieldKind {
  readonly name: keyof Cron;
  readonly least: number;
  readonly most: number;
  /** Names of values, the first of `least`. */
  readonly names?: readonly string[];
}

const FIELDS: readonly FieldKind[] = [
  { name: 'minute', least: 0, most: 59 },
  { name: 'hour', least: 0, most: 23 },
  { name: 'day', least: 1, most: 31 },
  { name: 'month', least: 1, most: 12, names: MONTHS },
  { name: 'weekday', least: 0, most: 7, names: WEEKDAYS },
];
const DAYS_OF_MONTHS = [31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];

export const isCron = (read: Cron | CronProblem): read is Cron => 'minute' in read;

/** Reads `30 4 * * 1-5`: minute, hour, day of the month, month and weekday, with lists, ranges, steps and names. */
export function parseCron(text: string): Cron | CronProblem {
  const written = text.trim().split(/\s+/);
  if (text.trim() === '' || written.length !== FIELDS.length)
    return {
      message: `a schedule has five fields, not ${text.trim() === '' ? 'none' : written.length}`,
      hint: 'minute, hour, day of the month, month, weekday, such as 30 4 * * 1-5',
    };
  const fields: Partial<Record<keyof Cron, CronField>> = {};
  for (const [i, kind] of FIELDS.entries()) {
    const field = fieldOf(kind, written[i]!);
    if ('message' in field) return field;
    fields[kind.name] = field;
  }
  const cron = fields as Cron;
  const { day, month } = cron;
  if (!month.values.some((m) => day.values[0]! <= DAYS_OF_MONTHS[m - 1]!))
    return {
      message: `there is no day ${day.values[0]} in ${month.values.map((m) => capital(MONTHS[m - 1]!)).join(' or ')}`,
      hint: `did you mean ${DAYS_OF_MONTHS[month.values[0]! - 1]}?`,
    };
  return cron;
}

const capital = (name: string) => name[0]!.toUpperCase() + name.slice(1);

function fieldOf(kind: FieldKind, written: string): CronField | CronProblem {
  const values = new Set<number>();
  let isFixed = true;
  for (const part of written.split(',')) {
    const [, whole, step] = /^([^/]*)(?:\/(.*))?$/.exec(part)!;
    const span = spanOf(kind, whole!);
    if ('message' in span) return span;
    if (step !== undefined && !/^[1-9]\d{0,3}$/.test(step))
      return {
        message: `${step || 'nothing'} is not a step of a ${kind.name}`,
        hint: 'a step is a whole number, such as */15',
      };
    if (whole === '*' || step !== undefined) isFixed = false;
    // `5/15` begins at 5 and goes on to the greatest value.
    const last = step !== undefined && span.isOne ? kind.most : span.last;
    for (let n = span.first; n <= last; n += Number(step ?? 1)) values.add(kind.name === 'weekday' ? n % 7 : n);
  }
  const isAny = written === '*';
  return { values: [...values].sort((a, b) => a - b), isFixed, isAny };
}

function spanOf(
  kind: FieldKind,
  written: string,
): { readonly first: number; readonly last: number; readonly isOne: boolean } | CronProblem {
  if (written === '*') return { first: kind.least, last: kind.name === 'weekday' ? 6 : kind.most, isOne: false };
  const [first, last, ...more] = written.split('-').map((v) => valueOf(kind, v));
  if (first === undefined || more.length || typeof first === 'object' || typeof last === 'object')
    return typeof first === 'object' ? first : typeof last === 'object' ? last : noValue(kind, written);
  if (last !== undefined && last < first)
    return {
      message: `${written} of the ${kind.name} goes backwards`,
      hint: `did you mean ${written.split('-').reverse().join('-')}?`,
    };
  return { first, last: last ?? first, isOne: last === undefined };
}

function valueOf(kind: FieldKind, written: string): number | CronProblem {
  const named = kind.names?.indexOf(written.toLowerCase()) ?? -1;
  if (named >= 0) return named + kind.least;
  if (!/^\d{1,4}$/.test(written)) return noValue(kind, written);
  const value = Number(written);
  return value >= kind.least && value <= kind.most ? value : noValue(kind, written);
}

function noValue({ name, least, most, names }: FieldKind, written: string): CronProblem {
  const what = name === 'day' ? 'day of the month' : name;
  const number = /^\d+$/.test(written) ? Math.min(most, Math.max(least, Number(written))) : undefined;
  const near = number ?? names?.find((n) => written.toLowerCase().startsWith(n));
  return {
    message: `${written || 'nothing'} is not ${name === 'hour' ? 'an' : 'a'} ${what}`,
    hint: `${near === undefined ? '' : `did you mean ${near}? `}it is ${least} to ${most}${names ? ` or ${names[0]} to ${names.at(-1)}` : ''}`,
  };
}
