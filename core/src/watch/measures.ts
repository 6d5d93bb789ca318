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
/** What looking at one value takes, in milliseconds. */
const A_VALUE = 0.0006;
/** Fewer rows say too little of a share, more than these nothing that would be worth the time. */
const FEWEST_ROWS = 300;
const MOST_ROWS = 500;
const MOST_LARGE_ROWS = 30_000;
/** A table of so many values is measured whole. */
const VALUES_OF_SMALL = 2000;
/** Values of a sample that are told apart within those milliseconds: of wider tables those of the first columns. */
const VALUES_TOLD_APART = 600;
/** Of a sample values are told apart in so many rows, in fewer where there are many columns, but not in fewer than these. */
const MOST_TOLD_APART = 500;
const FEWEST_TOLD_APART = 50;
/** Of wider tables the first columns are measured. */
const MOST_COLUMNS = 100;

/** One statement that measures a table. */
export interface Measuring {
  readonly sql: string;
  readonly isSampled: boolean;
  /** Of a sample, in how many of its rows values are told apart. */
  readonly toldApart: number;
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
  const measured = columns.slice(0, MOST_COLUMNS);
  const comparable = measured.filter((c) => familyOf(c.type) !== 'other');
  const apart = load.rows < LARGE_TABLE ? comparable.slice(0, VALUES_TOLD_APART / FEWEST_TOLD_APART) : comparable;
  const wanted = rowsWanted(load, measured.length);
  const most = Math.floor(VALUES_TOLD_APART / Math.max(1, apart.length));
  const isSampled = load.rows > (apart.length === 0 ? wanted : VALUES_OF_SMALL / apart.length);
  const toldApart = Math.max(FEWEST_TOLD_APART, Math.min(MOST_TOLD_APART, most));
  const percent = Math.min(100, (100 * wanted) / Math.max(1, load.rows));
  const plain = [['rows looked at', 'count(*)'] as const, ...measured.flatMap(plainMeasures)];
  const frequencies = apart.flatMap(({ name }, i) => [
    [`distinct share of ${name}`, `f.d[${i + 1}] as d${i}`] as const,
    [`top-ten share of ${name}`, `f.t[${i + 1}] as t${i}`] as const,
  ]);
  const list = measured.map((c) => ident(c.name)).join(', ');
  const sample = isSampled ? ` tablesample system (${percent})` : '';
  const few = isSampled ? `(select * from looked order by random() limit ${toldApart}) as few` : 'looked';
  const alike = apart.length ? `\n  cross join (${frequenciesOf(apart, few)}) as f` : '';
  return {
    sql: `with looked as materialized (select ${list} from ${qualified(place)}${sample})
select ${['whole.*', ...frequencies.map(([, sql]) => sql)].join(', ')}
from (select ${plain.map(([, sql], i) => `${sql} as m${i}`).join(',\n             ')}
      from looked) as whole${alike}`,
    isSampled,
    toldApart,
    names: [...plain, ...frequencies].map(([name]) => name),
  };
}

function plainMeasures({ name, type, isSensitive }: MeasuredColumn): (readonly [string, string])[] {
  const column = ident(name);
  const nulls = [`null share of ${name}`, `1 - count(${column})::float8 / nullif(count(*), 0)`] as const;
  if (isSensitive || !QUANTITIES.test(type)) return [nulls];
  return [
    nulls,
    [`least ${name}`, `min(${column})::float8`],
    [`greatest ${name}`, `max(${column})::float8`],
    [`mean ${name}`, `avg(${column})::float8`],
  ];
}

/**
 * How many different values each column has, and how many rows have one of its ten most frequent, as shares of those
 * with a value: lists in the columns' order. Values are grouped by their hashes, all columns at once, since a grouping
 * a column takes several times as long.
 */
function frequenciesOf(columns: readonly MeasuredColumn[], from: string): string {
  const hash = ({ name, type }: MeasuredColumn) => {
    // Amounts of money can be sorted and not hashed.
    const value = type === 'money' ? `cast(${ident(name)} as numeric)` : ident(name);
    return `case when ${ident(name)} is not null then hash_record_extended(row(${value}), 0) end`;
  };
  return `select array_agg(d order by i) as d, array_agg(t order by i) as t
              from (select i, count(value)::float8 / nullif(sum(n) filter (where value is not null), 0) as d,
                           (sum(n) filter (where value is not null and place <= ${MOST_FREQUENT}))::float8 / nullif(sum(n) filter (where value is not null), 0) as t
                    from (select i, value, count(*) as n, row_number() over (partition by i order by value is null, count(*) desc) as place
                          from ${from}
                          cross join lateral unnest(array[${columns.map(hash).join(', ')}]) with ordinality as v(value, i)
                          group by i, value) as alike
                    group by i) as frequencies`;
}

/** Whether a measure is judged: what is least and greatest jumps by nature, and is only shown. */
export const isJudged = (name: string): boolean => !/^(least|greatest) /.test(name);

/** How the values of a measure vary. */
export function scaleOfMeasure(name: string): Scale {
  if (name === 'age') return 'age';
  if (/^(null|distinct|top-ten) share of /.test(name)) return 'share';
  return /^(least|greatest|mean) /.test(name) ? 'number' : 'count';
}

/** Rows that a measuring looked at. */
export interface Looked extends Pick<Measuring, 'isSampled' | 'toldApart'> {
  readonly rows: number;
}

/** The error that a measure's value has by chance, as a share of it; none where it is no share. */
export function chanceOf(name: string, value: number, looked: Looked): { error?: number } {
  if (scaleOfMeasure(name) !== 'share') return {};
  const ofFew = looked.isSampled && /^(distinct|top-ten) /.test(name);
  const rows = ofFew ? Math.min(looked.rows, looked.toldApart) : looked.rows;
  return { error: shareError(value, { rows, isSampled: looked.isSampled }) };
}

/**
 * The standard error that a share of some rows has by chance, as a share of it: few rows may be one more or less
 * without anything being wrong. Blocks hold rows that are alike, as if there were half as many.
 */
export const shareError = (share: number, of: Pick<Looked, 'rows' | 'isSampled'>): number =>
  share <= 0 ? 0 : Math.sqrt(((of.isSampled ? 2 : 1) * Math.max(0, 1 - share)) / (share * Math.max(1, of.rows)));
