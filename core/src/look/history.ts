import { ident, idents, literal } from '../sql/quote.js';
import { tableText } from '../sql/quote.js';

/** A table of versions, as its contract says it. */
export interface HistoryTable {
  readonly fullName: string;
  readonly key: readonly string[];
  readonly validFrom: string;
  readonly validTo: string;
  readonly columns: readonly string[];
}

const at = (instant: string) => `${literal(instant)}::timestamptz`;

/** The rows that were valid at an instant, one a key. */
export const asOfQuery = (table: HistoryTable, instant: string): string =>
  `${validAt(table, instant)}\norder by ${idents(table.key)}`;

function validAt(table: HistoryTable, instant: string): string {
  const [from, to] = [ident(table.validFrom), ident(table.validTo)];
  return `select *\nfrom ${tableText(table.fullName)}\nwhere ${from} <= ${at(instant)} and (${to} is null or ${to} > ${at(instant)})`;
}

/** All versions of one key, oldest first. @param key values in the order of the table's key */
export function versionsQuery(table: HistoryTable, key: readonly string[]): string {
  const same = table.key.map((k, i) => `${ident(k)}::text = ${literal(key[i] ?? '')}`).join(' and ');
  return `select *\nfrom ${tableText(table.fullName)}\nwhere ${same}\norder by ${ident(table.validFrom)}`;
}

/** Columns that say when a version holds, and not what. */
const frame = (table: HistoryTable) => new Set([table.validFrom, table.validTo, ...table.key]);

/**
 * What differs between two instants: a row for each key that came, went, or is another version, with
 * `change`, the key, and for each column `before → after`, or an empty text where it is the same.
 */
export function compareQuery(table: HistoryTable, before: string, after: string): string {
  const columns = table.columns.filter((c) => !frame(table).has(c));
  const [a, b] = [validAt(table, before), validAt(table, after)];
  const key = table.key.map((k) => `coalesce(b.${ident(k)}, a.${ident(k)}) as ${ident(k)}`);
  const differs = columns.map((c) => `a.${ident(c)} is distinct from b.${ident(c)}`);
  const values = columns.map(
    (c) =>
      `case when a.${ident(c)} is distinct from b.${ident(c)} then coalesce(a.${ident(c)}::text, 'null') || ' → ' || coalesce(b.${ident(c)}::text, 'null') else '' end as ${ident(c)}`,
  );
  const first = ident(table.key[0]!);
  return `select case when a.${first} is null then 'came' when b.${first} is null then 'went' else 'changed' end as change,
       ${[...key, ...values].join(',\n       ')}
from (${a}) as a
full join (${b}) as b on ${table.key.map((k) => `a.${ident(k)} = b.${ident(k)}`).join(' and ')}
where a.${first} is null or b.${first} is null${differs.map((d) => ` or ${d}`).join('')}
order by ${table.key.map((_, i) => i + 2).join(', ')}`;
}

/** What changed from one version to the next: the names of columns, in the table's order. */
export function changedColumns(
  table: HistoryTable,
  names: readonly string[],
  before: readonly (string | null)[],
  after: readonly (string | null)[],
): string[] {
  const plain = frame(table);
  return names.filter((name, i) => table.columns.includes(name) && !plain.has(name) && before[i] !== after[i]);
}
