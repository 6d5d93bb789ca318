import { ident, literal } from '../sql/quote.js';

/** Characters of a value that people are shown of it. */
export const LONGEST_SHOWN = 5000;

/** A column as a query gives it: its type's name without length, and PostgreSQL's `typlen`, -1 where values have any length. */
export interface SizedColumn {
  readonly type: string;
  readonly length: number;
}

/** A query around another, and how many characters are before the inner one. */
export interface AroundQuery {
  readonly sql: string;
  readonly head: number;
}

const TEXT = /^(text|varchar|character varying)\b/;

/** A value as PostgreSQL writes it; of a byte string only the beginning, as all of it may be more than a text can hold. */
function written(
  column: SizedColumn,
  name: string,
  most: number,
): { readonly text: string; readonly size: string; readonly unit: string } {
  if (TEXT.test(column.type)) return { text: name, size: `length(${name})`, unit: 'characters' };
  if (column.type === 'bytea')
    return {
      text: `'\\x' || encode(substring(${name} from 1 for ${Math.ceil(most / 2) + 1}), 'hex')`,
      size: `2 * octet_length(${name}) + 2`,
      unit: 'characters',
    };
  return {
    text: `case when ${name} is not null then format('%s', ${name}) end`,
    size: 'length(text)',
    unit: 'characters',
  };
}

/**
 * A query whose long values are cut where they are made, each with its length told behind: none of them travels.
 * @param most characters that are left of a value
 * @param exact how many columns at the end are left as they are
 */
export function cutQuery(sql: string, columns: readonly SizedColumn[], most = LONGEST_SHOWN, exact = 0): AroundQuery {
  const names = columns.map((_, i) => ident(`c${i + 1}`));
  const long = columns.map((c, i) => c.length < 0 && i < columns.length - exact);
  const items = names.map((name, i) => (long[i] ? `v${i + 1}.text as ${name}` : `q.${name}`));
  const values = columns.flatMap((column, i) => {
    if (!long[i]) return [];
    const { text, size, unit } = written(column, `q.${names[i]!}`, most);
    // What comes from the inner query is computed once, however often it is named.
    return `\ncross join lateral (select case when ${size} > ${most} then left(text, ${most}) || '… (' || ${size} || ${literal(` ${unit} in all)`)} else text end as text from (select ${text} as text offset 0) as w${i + 1}) as v${i + 1}`;
  });
  const head = `select ${items.join(', ') || '*'}\nfrom (\n`;
  const alias = names.length ? `(${names.join(', ')})` : '';
  return { sql: `${head}${sql}\n) as q${alias}${values.join('')}`, head: head.length };
}

/** A query's columns without its rows. */
export const describing = (sql: string): AroundQuery => ({
  sql: `select * from (\n${sql}\n) as described limit 0`,
  head: 'select * from (\n'.length,
});
