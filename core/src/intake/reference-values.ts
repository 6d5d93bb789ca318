import type { ConstraintCheck } from '../check/constraint-checks.js';
import { valueProblem } from '../language/value-problem.js';
import { ident, literal } from '../sql/quote.js';
import { tableText } from '../sql/quote.js';
import type { CsvField } from '../index/csv.js';

export interface ReferenceColumn {
  readonly name: string;
  readonly type?: string | undefined;
  readonly notNull: boolean;
  readonly isKey: boolean;
}

/** What is wrong with a value of a reference table. */
export interface ReferenceProblem {
  readonly row: number;
  readonly column: string;
  readonly message: string;
}

/** Holds the rows of a reference table against its contract: types, nulls, the key. */
export function referenceProblems(
  columns: readonly ReferenceColumn[],
  header: readonly string[],
  rows: readonly (readonly CsvField[])[],
): ReferenceProblem[] {
  const found: ReferenceProblem[] = [];
  for (const column of columns) {
    const at = header.indexOf(column.name);
    if (at < 0) continue;
    rows.forEach((fields, row) => {
      const value = fields[at] ?? null;
      const problem =
        value === null
          ? column.notNull
            ? 'is never null'
            : undefined
          : column.type === undefined
            ? undefined
            : valueProblem(column.type, value);
      if (problem)
        found.push({
          row,
          column: column.name,
          message: value === null ? `${column.name} ${problem}` : `“${value}” ${problem}`,
        });
    });
  }
  return [...found, ...repeatedKeys(columns, header, rows)];
}

function repeatedKeys(
  columns: readonly ReferenceColumn[],
  header: readonly string[],
  rows: readonly (readonly CsvField[])[],
): ReferenceProblem[] {
  const key = columns.filter((c) => c.isKey);
  const places = key.map((c) => header.indexOf(c.name));
  if (key.length === 0 || places.includes(-1)) return [];
  const first = new Map<string, number>();
  return rows.flatMap((fields, row): ReferenceProblem[] => {
    const values = places.map((p) => fields[p] ?? null);
    if (values.includes(null)) return [];
    const text = JSON.stringify(values);
    const before = first.get(text);
    if (before === undefined) first.set(text, row);
    return before === undefined
      ? []
      : [{ row, column: key[0]!.name, message: `${values.join(', ')} is already in row ${before + 1}` }];
  });
}

/** Rows of a reference table whose checks are asked of the database while it is edited. */
export const MOST_CHECKED = 2_000;

/**
 * A query that holds typed-in rows against the conditions and references of the table's contract.
 * Its rows are `row` (from 0), `check` (its place in `checks`): one for each that does not hold.
 * @param unsound rows that are left out, since a value of theirs is not of its type
 * @returns undefined where the contract has no such check
 */
export function referenceCheckQuery(
  table: { readonly name: string; readonly columns: readonly ReferenceColumn[] },
  checks: readonly ConstraintCheck[],
  { header, rows }: { readonly header: readonly string[]; readonly rows: readonly (readonly CsvField[])[] },
  unsound: ReadonlySet<number>,
): string | undefined {
  const known = table.columns.filter((c) => header.includes(c.name));
  const asked = checks.flatMap((check, i) => {
    const holds = check.columns.every((name) => header.includes(name)) ? conditionOf(table.name, check) : undefined;
    return holds === undefined ? [] : [`(${i}, (${holds}\n))`];
  });
  const sound = rows.slice(0, MOST_CHECKED).flatMap((fields, row) => (unsound.has(row) ? [] : [{ fields, row }]));
  if (asked.length === 0 || sound.length === 0) return undefined;
  const values = sound.map(
    ({ fields, row }) => `(${row}, ${known.map((c) => textOf(fields[header.indexOf(c.name)] ?? null)).join(', ')})`,
  );
  const given = known.map((_, i) => `v${i}`).join(', ');
  const typed = known.map((c, i) => `cast(given.v${i} as ${c.type ?? 'text'}) as ${ident(c.name)}`).join(', ');
  return `select given_row.at as "row", asked.which as "check"
from (values ${values.join(',\n')}) as given (at, ${given})
cross join lateral (select given.at) as given_row
cross join lateral (select ${typed}) as ${ident(table.name)}
cross join lateral (values ${asked.join(',\n')}) as asked (which, holds)
where asked.holds is false
order by 1, 2`;
}

function textOf(value: CsvField): string {
  return value === null ? 'null::text' : `${literal(value)}::text`;
}

function conditionOf(name: string, check: ConstraintCheck): string | undefined {
  if (check.kind === 'check') return check.expression;
  if (check.kind !== 'references' || !check.references) return undefined;
  const { table, columns } = check.references;
  const own = check.columns.map((c) => `${ident(name)}.${ident(c)}`);
  const matches = own.map((c, i) => `known.${ident(columns[i] ?? check.columns[i]!)} = ${c}`);
  return `${own.map((c) => `${c} is null`).join(' or ')} or exists (select from ${tableText(table)} as known where ${matches.join(' and ')})`;
}
