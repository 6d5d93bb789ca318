import { habitualName } from '../intake/import-tables.js';
import { plainIdent } from '../sql/quote.js';
import { measureSql, type Measure } from './summarise.js';
import { select, text } from './text.js';
import { tableText } from '../sql/quote.js';

/** Values of rows as columns. */
export interface PivotChoices {
  readonly source: string;
  /** What one row of the result is for. */
  readonly by: readonly string[];
  /** The column whose values become columns. */
  readonly across: string;
  /** The values, as text, and the names of their columns. */
  readonly values: readonly { readonly value: string | null; readonly name: string }[];
  readonly measure: Omit<Measure, 'name'>;
}

/** Names of the columns that values become, all different. */
export function pivotNames(values: readonly (string | null)[], taken: readonly string[]): string[] {
  const used = new Set(taken);
  return values.map((value) => {
    const base = value === null ? 'no_value' : value.trim() === '' ? 'empty' : habitualName(value);
    let name = base;
    for (let n = 2; used.has(name); n++) name = `${base}_${n}`;
    used.add(name);
    return name;
  });
}

export function pivot({ source, by, across, values, measure }: PivotChoices): string {
  const items = [
    ...by.map(plainIdent),
    ...values.map(
      ({ value, name }) =>
        `${measureSql({ ...measure, name })} filter (where ${plainIdent(across)}${value === null ? ' is null' : ` = ${text(value)}`}) as ${plainIdent(name)}`,
    ),
  ];
  const grouped = by.length ? `group by ${by.map(plainIdent).join(', ')}` : '';
  return `-- ${source}: values of ${across} as columns\n${select(items, [`from ${tableText(source)}`, grouped])}\n`;
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
