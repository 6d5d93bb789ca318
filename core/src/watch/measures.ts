import { familyOf } from '../sql/types.js';
import { ident, qualified } from '../sql/quote.js';
import type { Place } from '../model/place.js';
import type { Scale } from './scales.js';

/** A column as far as measures of it go. */
export interface MeasuredColumn {
  readonly name: string;
  readonly type: string;
  /** Of a sensitive column only shares are measured: its values stay where they are. */
  readonly isSensitive?: boolean;
}

/** Tables of so many rows are large: measuring them may take a share of their load's time, others a fixed time. */
const LARGE_TABLE = 1_000_000;
const SHARE_OF_LOAD = 0.04;
const MILLISECONDS = 5;
/** What measuring one value takes, in milliseconds: most of it is sorting for the distinct ones. */
const A_VALUE = 0.0006;
/** Fewer rows say too little of a share, more than these nothing that would be worth the time. */
const FEWEST_ROWS = 500;
const MOST_ROWS = 2000;
const MOST_LARGE_ROWS = 30_000;
/** Of wider tables the first columns are measured. */
const MOST_COLUMNS = 100;

/** One statement that measures a table. */
export interface Measuring {
  readonly sql: string;
  readonly isSampled: boolean;
  /** What the columns of its one row are called as measures; the first is the number of rows looked at. */
  readonly names: readonly string[];
}

const QUANTITIES = /^(numeric|real|double precision)/;

/** A load, as far as it says how much may be measured of its table. */
export interface MeasuredLoad {
  /** Rows of the table, as the load counted them. */
  readonly rows: number;
  readonly milliseconds: number;
}

/** How many rows are looked at: as many as the time allows. */
function rowsWanted({ rows, milliseconds }: MeasuredLoad, columns: number): number {
  const isLarge = rows >= LARGE_TABLE;
  const time = isLarge ? SHARE_OF_LOAD * milliseconds : MILLISECONDS;
  const most = isLarge ? MOST_LARGE_ROWS : MOST_ROWS;
  return Math.min(most, Math.max(FEWEST_ROWS, Math.round(time / (A_VALUE * Math.max(1, columns)))));
}

/** Values that count as the most frequent ones. */
const MOST_FREQUENT = 10;

/**
 * Null shares of all columns, least, greatest and mean of quantities, and of columns whose values can be told apart how
 * many different ones there are and which share the ten most frequent have: in one scan, of the whole table where it is
 * small, else of a sample of its blocks. How many values are alike depends on how many are looked at, so that of a
 * sample it is always the same number.
 */
export function measuring(columns: readonly MeasuredColumn[], place: Place, load: MeasuredLoad): Measuring {
  const { rows } = load;
  const wanted = rowsWanted(load, Math.min(columns.length, MOST_COLUMNS));
  const isSampled = rows > wanted;
  const percent = Math.min(100, (100 * wanted) / Math.max(1, rows));
  const measured = columns.slice(0, MOST_COLUMNS);
  const plain: [string, string][] = [['rows looked at', 'count(*)']];
  const frequencies: [string[], string][] = [];
  for (const { name, type, isSensitive } of measured) {
    const column = ident(name);
    plain.push([`null share of ${name}`, `1 - count(${column})::float8 / nullif(count(*), 0)`]);
    if (familyOf(type) !== 'other')
      frequencies.push([
        [`distinct share of ${name}`, `top-ten share of ${name}`],
        frequenciesOf(column, isSampled, frequencies.length),
      ]);
    if (isSensitive || !QUANTITIES.test(type)) continue;
    for (const [word, sql] of [
      ['least', 'min'],
      ['greatest', 'max'],
      ['mean', 'avg'],
    ] as const)
      plain.push([`${word} ${name}`, `${sql}(${column})::float8`]);
  }
  const list = measured.map((c) => ident(c.name)).join(', ');
  const looked = `select ${list} from ${qualified(place)}${isSampled ? ` tablesample system (${percent})` : ''}`;
  const few = isSampled
    ? `,\n     few as materialized (select * from looked order by random() limit ${FEWEST_ROWS})`
    : '';
  return {
    sql: `with looked as materialized (${looked})${few}
select whole.*${frequencies.map((_, i) => `, f${i}.*`).join('')}
from (select ${plain.map(([, sql], i) => `${sql} as m${i}`).join(',\n             ')}
      from looked) as whole${frequencies.map(([, sql], i) => `\n  cross join (${sql}) as f${i}`).join('')}`,
    isSampled,
    names: [...plain.map(([name]) => name), ...frequencies.flatMap(([names]) => names)],
  };
}

/** How many different values a column has, and how many rows have one of the ten most frequent: as shares of those with a value. */
const frequenciesOf = (column: string, isSampled: boolean, i: number): string =>
  `select count(*)::float8 / nullif(sum(n), 0) as d${i}, (sum(n) filter (where place <= ${MOST_FREQUENT}))::float8 / nullif(sum(n), 0) as t${i}
              from (select count(*) as n, row_number() over (order by count(*) desc) as place
                    from ${isSampled ? 'few' : 'looked'} where ${column} is not null group by ${column}) as alike`;

/** Whether a measure is judged: what is least and greatest jumps by nature, and is only shown. */
export const isJudged = (name: string): boolean => !/^(least|greatest) /.test(name);

/** How the values of a measure vary. */
export function scaleOfMeasure(name: string): Scale {
  if (name === 'age') return 'age';
  if (/^(null|distinct|top-ten) share of /.test(name)) return 'share';
  return /^(least|greatest|mean) /.test(name) ? 'number' : 'count';
}

/** Rows that a measuring looked at. */
export interface Looked {
  readonly rows: number;
  readonly isSampled: boolean;
}

/** The error that a measure's value has by chance, as a share of it; none where it is no share. */
export function chanceOf(name: string, value: number, { rows, isSampled }: Looked): { error?: number } {
  if (scaleOfMeasure(name) !== 'share') return {};
  const ofFew = isSampled && /^(distinct|top-ten) /.test(name);
  return { error: shareError(value, { rows: ofFew ? Math.min(rows, FEWEST_ROWS) : rows, isSampled }) };
}

/**
 * The standard error that a share of some rows has by chance, as a share of it: few rows may be one more or less
 * without anything being wrong. Blocks hold rows that are alike, as if there were half as many.
 */
export const shareError = (share: number, of: Looked): number =>
  share <= 0 ? 0 : Math.sqrt(((of.isSampled ? 2 : 1) * Math.max(0, 1 - share)) / (share * Math.max(1, of.rows)));
