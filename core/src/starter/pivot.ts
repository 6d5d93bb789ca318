import { habitualName } from '../intake/import-tables.js';
import { plainIdent } from '../sql/quote.js';
import { measureSql, type Measure } from './summarise.js';
import { periodSql, type Period } from './periods.js';
import { select, text } from './text.js';
import { tableText } from '../sql/quote.js';

/** Values of rows as columns. */
export interface PivotChoices {
  readonly source: string;
  /** What one row of the result is for. */
  readonly by: readonly string[];
  /** The column whose values become columns. */
  readonly across: string;
  /** Of a column of moments: the period whose first days the values are. */
  readonly period?: Period;
  /** The values, as text, and the names of their columns. */
  readonly values: readonly { readonly value: string | null; readonly name: string }[];
  readonly measure: Omit<Measure, 'name'>;
}

/** Names of the columns that values become, all different. */
export function pivotNames(values: readonly (string | null)[], taken: readonly string[], period?: Period): string[] {
  const used = new Set(taken);
  return values.map((value) => {
    const base =
      value === null
        ? 'no_value'
        : value.trim() === ''
          ? 'empty'
          : period === undefined
            ? habitualName(value)
            : periodName(value, period);
    let name = base;
    for (let n = 2; used.has(name); n++) name = `${base}_${n}`;
    used.add(name);
    return name;
  });
}

/** Values that become columns, the most frequent first; periods in their order. */
export function pivotValuesQuery({
  source,
  across,
  period,
}: Pick<PivotChoices, 'source' | 'across' | 'period'>): string {
  const value = period === undefined ? plainIdent(across) : periodSql(across, period);
  const order = period === undefined ? 'count(*) desc, 1' : '1';
  return `select ${period === undefined ? `${value}::text` : `(${value})::text`} as value\nfrom ${tableText(source)}\ngroup by 1\norder by ${order}`;
}

export function pivot({ source, by, across, period, values, measure }: PivotChoices): string {
  const of = period === undefined ? plainIdent(across) : periodSql(across, period);
  const items = [
    ...by.map(plainIdent),
    ...values.map(
      ({ value, name }) =>
        `${measureSql({ ...measure, name })} filter (where ${of}${value === null ? ' is null' : ` = ${text(value)}`}) as ${plainIdent(name)}`,
    ),
  ];
  const grouped = by.length ? `group by ${by.map(plainIdent).join(', ')}` : '';
  return `-- ${source}: ${period === undefined ? `values of ${across}` : `${period}s of ${across}`} as columns\n${select(items, [`from ${tableText(source)}`, grouped])}\n`;
}

/** Columns as rows. */
export interface UnpivotChoices {
  readonly source: string;
  readonly keep: readonly string[];
  readonly columns: readonly string[];
  readonly nameColumn: string;
  readonly valueColumn: string;
  /** Rows whose value is null are left out. */
  readonly withoutNulls: boolean;
}

export function unpivot({ source, keep, columns, nameColumn, valueColumn, withoutNulls }: UnpivotChoices): string {
  const rows = columns.map((c) => `  (${text(c)}, t.${plainIdent(c)})`).join(',\n');
  const items = [
    ...keep.map((c) => `t.${plainIdent(c)}`),
    `u.${plainIdent(nameColumn)}`,
    `u.${plainIdent(valueColumn)}`,
  ];
  return `-- ${source}: columns as rows\n${select(items, [
    `from ${tableText(source)} t`,
    `cross join lateral (values\n${rows}\n) as u (${plainIdent(nameColumn)}, ${plainIdent(valueColumn)})`,
    withoutNulls ? `where u.${plainIdent(valueColumn)} is not null` : '',
  ])}\n`;
}

/** The name of the column for a period that begins on a day: `month_2026_03`, `quarter_2026_1`. */
function periodName(day: string, period: Period): string {
  const [year = '', month = '', date = ''] = day.split('-');
  switch (period) {
    case 'year':
      return `year_${year}`;
    case 'quarter':
      return `quarter_${year}_${Math.ceil(Number(month) / 3)}`;
    case 'month':
      return `month_${year}_${month}`;
    case 'week':
    case 'day':
      return `${period}_${year}_${month}_${date}`;
  }
}
