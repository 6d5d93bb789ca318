import { contractLines } from './dimension.js';
import { text } from './text.js';
import { tableText } from '../sql/quote.js';

export interface DateChoices {
  readonly fullName: string;
  /** First and last day, `2020-01-01`. */
  readonly from: string;
  readonly to: string;
  /** The month in which the fiscal year begins, 1 to 12; a year that begins in January is the calendar's. */
  readonly fiscalStart: number;
  /** A fiscal year is called by the calendar year in which it begins, or in which it ends. */
  readonly fiscalNamedBy: 'start' | 'end';
  /** ISO weeks begin on Monday, and week 1 has the year's first Thursday; simple weeks begin on Sunday, and week 1 has 1 January. */
  readonly weeks: 'iso' | 'sunday';
}

/** A calendar, one row a day; its key is the day as a number, 20260131. */
export function dateDimension({ fullName, from, to, fiscalStart, fiscalNamedBy, weeks }: DateChoices): string {
  const shift = fiscalStart - 1;
  const moved = shift === 0 ? 'd' : `d - interval '${shift} ${shift === 1 ? 'month' : 'months'}'`;
  const fiscalYear = `extract(year from ${moved})::integer${shift > 0 && fiscalNamedBy === 'end' ? ' + 1' : ''}`;
  const firstOfYear = `date_trunc('year', d)`;
  const week =
    weeks === 'iso'
      ? [`extract(isoyear from d)::integer as week_year`, `extract(week from d)::integer as week`]
      : [
          `extract(year from d)::integer as week_year`,
          `((extract(doy from d)::integer - 1 + extract(dow from ${firstOfYear})::integer) / 7 + 1)::integer as week`,
        ];
  const columns: (readonly [string, string, string])[] = [
    ['date_key', 'integer', 'primary key'],
    ['day', 'date', 'not null unique'],
    ['year', 'integer', 'not null'],
    ['quarter', 'integer', 'not null'],
    ['month', 'integer', 'not null check (month between 1 and 12)'],
    ['month_name', 'text', 'not null'],
    ['week_year', 'integer', 'not null'],
    ['week', 'integer', 'not null check (week between 1 and 54)'],
    ['day_of_week', 'integer', 'not null check (day_of_week between 1 and 7)'],
    ['day_name', 'text', 'not null'],
    ['is_weekend', 'boolean', 'not null'],
    ['fiscal_year', 'integer', 'not null'],
    ['fiscal_quarter', 'integer', 'not null'],
    ['fiscal_month', 'integer', 'not null check (fiscal_month between 1 and 12)'],
  ];
  return `-- The calendar from ${from} to ${to}; ${weeks === 'iso' ? 'ISO weeks' : 'weeks from Sunday'}, the fiscal year begins in month ${fiscalStart}
create table ${tableText(fullName)} (
${contractLines(columns).join(',\n')}
);

select
  to_char(d, 'YYYYMMDD')::integer as date_key,
  d::date as day,
  extract(year from d)::integer as year,
  extract(quarter from d)::integer as quarter,
  extract(month from d)::integer as month,
  to_char(d, 'FMMonth') as month_name,
  ${week.join(',\n  ')},
  ${weeks === 'iso' ? 'extract(isodow from d)::integer' : 'extract(dow from d)::integer + 1'} as day_of_week,
  to_char(d, 'FMDay') as day_name,
  extract(isodow from d) in (6, 7) as is_weekend,
  ${fiscalYear} as fiscal_year,
  extract(quarter from ${moved})::integer as fiscal_quarter,
  extract(month from ${moved})::integer as fiscal_month
from generate_series(${text(from)}::timestamp, ${text(to)}::timestamp, interval '1 day') as g (d);
`;
}
