import { ident } from '../sql/quote.js';
import type { Relation } from './relations.js';
import { unifiedType } from '../sql/types.js';
import { type StackedColumn } from './stack.js';
import { type StarterTable } from './text.js';
import { tableText } from '../sql/quote.js';

/** Two columns whose values may be the same things. */
export interface ValuePair {
  readonly from: { readonly table: string; readonly column: string };
  readonly to: { readonly table: string; readonly column: string };
  /** The type in which values of both are compared. */
  readonly type: string;
}

/** What was found of a pair: different values looked at, and how many of them the other column has. */
export interface SharedValues {
  readonly pair: ValuePair;
  readonly values: number;
  readonly found: number;
}

/** Rows of a column that are looked at, the different values taken from them, and rows of the other side. */
const LOOKED_AT = 5_000;
const TAKEN = 500;
const OTHER_SIDE = 100_000;
/** Pairs in one question. */
export const MOST_PAIRS = 200;

/** One query that counts the shared values of pairs; its rows are `pair, values, found`, the pair as its place in the list. */
export function sharedValuesQuery(pairs: readonly ValuePair[]): string {
  return pairs
    .map(({ from, to, type }, i) => {
      const column = `${ident(from.column)}::${type}`;
      const known = `select ${ident(to.column)}::${type} from ${tableText(to.table)} where ${ident(to.column)} is not null limit ${OTHER_SIDE}`;
      return [
        `select ${i} as pair, count(*) as values, count(*) filter (where taken.value in (${known})) as found`,
        `from (select distinct value from (select ${column} as value from ${tableText(from.table)} where ${ident(from.column)} is not null limit ${LOOKED_AT}) as looked_at limit ${TAKEN}) as taken`,
      ].join('\n');
    })
    .join('\nunion all\n');
}

/** The answer of `sharedValuesQuery`, as text. */
export function readSharedValues(
  pairs: readonly ValuePair[],
  rows: readonly (readonly (string | null)[])[],
): SharedValues[] {
  return rows.flatMap(([pair, values, found]) => {
    const asked = pairs[Number(pair)];
    return asked ? [{ pair: asked, values: Number(values), found: Number(found) }] : [];
  });
}

/** A table with the columns that are its key. */
export interface KeyedTable extends StarterTable {
  readonly layer: string;
  readonly key: readonly string[];
}

/** Numbers are keys only where the column's name says so: any small number is some key's value. */
const NAMED_AS_KEY = /(^|_)(id|no|key|nr|number|code)$/;
const COMPARED = /^(text|varchar|character|uuid|smallint|integer|bigint|date)\b/;

/** Pairs of a table's columns and one-column keys of its layer, both ways, that no relation says yet. */
export function relationPairs(tables: readonly KeyedTable[], about: string, known: readonly Relation[]): ValuePair[] {
  const pairs: ValuePair[] = [];
  const subject = tables.find((t) => t.fullName === about);
  if (!subject) return [];
  const pairUp = (from: KeyedTable, to: KeyedTable) => {
    const key = to.key.length === 1 ? to.columns.find((c) => c.name === to.key[0]) : undefined;
    if (!key?.type || !COMPARED.test(key.type) || from === to) return;
    for (const column of from.columns) {
      const type = column.type && unifiedType([column.type, key.type]);
      if (!type || !COMPARED.test(type) || from.key.join() === column.name) continue;
      if (!type.startsWith('text') && !NAMED_AS_KEY.test(column.name)) continue;
      if (known.some((r) => r.from === from.fullName && r.to === to.fullName && r.fromColumns.includes(column.name)))
        continue;
      pairs.push({
        from: { table: from.fullName, column: column.name },
        to: { table: to.fullName, column: key.name },
        type,
      });
    }
  };
  for (const other of tables) {
    if (other.layer !== subject.layer) continue;
    pairUp(subject, other);
    pairUp(other, subject);
  }
  return pairs.slice(0, MOST_PAIRS);
}

/** A column of which nearly every value is one of the key's is a guess; few different values say nothing. */
export function relationsFromValues(answers: readonly SharedValues[], { least = 0.9, values = 3 } = {}): Relation[] {
  return answers
    .filter((a) => a.values >= values && a.found / a.values >= least)
    .sort((a, b) => b.found / b.values - a.found / a.values || b.values - a.values)
    .map(({ pair, ...counted }) => ({
      from: pair.from.table,
      fromColumns: [pair.from.column],
      to: pair.to.table,
      toColumns: [pair.to.column],
      declared: false,
      toOne: true,
      share: counted.found / counted.values,
    }));
}

/** Pairs of columns that stand alone in a stack: each with each of the other tables' of a type that fits. */
export function stackPairs(tables: readonly StarterTable[], columns: readonly StackedColumn[]): ValuePair[] {
  const alone = columns.filter((c) => c.from.filter((f) => f !== null).length === 1);
  const placed = alone.map((c) => {
    const at = c.from.findIndex((f) => f !== null);
    const name = c.from[at]!;
    return { at, name, type: tables[at]!.columns.find((t) => t.name === name)?.type };
  });
  return placed
    .flatMap((a) =>
      placed.flatMap((b): ValuePair[] => {
        const type = a.at < b.at ? unifiedType([a.type, b.type]) : undefined;
        if (type === undefined || type === 'boolean') return [];
        return [
          {
            from: { table: tables[a.at]!.fullName, column: a.name },
            to: { table: tables[b.at]!.fullName, column: b.name },
            type,
          },
        ];
      }),
    )
    .slice(0, MOST_PAIRS);
}

/** The stack's columns with those that share most of their values in one line, the best pairs first. */
export function matchByValues(
  tables: readonly StarterTable[],
  columns: readonly StackedColumn[],
  answers: readonly SharedValues[],
  least = 0.5,
): readonly StackedColumn[] {
  let result = [...columns];
  const lineOf = (side: ValuePair['from']) => {
    const at = tables.findIndex((t) => t.fullName === side.table);
    return result.find((c) => c.from[at] === side.column);
  };
  const good = answers.filter((a) => a.values > 0 && a.found / a.values >= least);
  for (const { pair } of good.sort((a, b) => b.found / b.values - a.found / a.values || b.found - a.found)) {
    const [one, other] = [lineOf(pair.from), lineOf(pair.to)];
    if (!one || !other || one === other || one.from.some((f, i) => f !== null && other.from[i] !== null)) continue;
    const from = one.from.map((f, i) => f ?? other.from[i] ?? null);
    const type = unifiedType(
      from.flatMap((name, i) => (name === null ? [] : [tables[i]!.columns.find((c) => c.name === name)?.type])),
    );
    result = result.filter((c) => c !== other).map((c) => (c === one ? { ...one, from, type } : c));
  }
  return result;
}

/** A column of a table by its place in a stack. */
export interface LoneColumn {
  readonly table: string;
  readonly column: string;
}

/** Columns that stand alone in a stack and whose values can be told apart. */
export function loneColumns(tables: readonly StarterTable[], columns: readonly StackedColumn[]): LoneColumn[] {
  return columns
    .flatMap(({ from }) => {
      const at = from.findIndex((f) => f !== null);
      const alone = from.filter((f) => f !== null).length === 1;
      const type = tables[at]?.columns.find((c) => c.name === from[at])?.type;
      return alone && type !== undefined && COMPARED.test(type)
        ? [{ table: tables[at]!.fullName, column: from[at]! }]
        : [];
    })
    .slice(0, MOST_PAIRS);
}

/** One query that says of columns whether each row looked at has another value; its rows are `column, unique`. */
export const uniqueValuesQuery = (columns: readonly LoneColumn[]): string =>
  columns
    .map(({ table, column }, i) =>
      [
        `select ${i} as column, count(*) = count(distinct value) and count(*) >= 3 as unique`,
        `from (select ${ident(column)}::text as value from ${tableText(table)} limit ${LOOKED_AT}) as looked_at`,
      ].join('\n'),
    )
    .join('\nunion all\n');

/**
 * The stack's columns with those in one line that tell the rows of their tables apart, declared or not: where each of
 * two tables has one such column alone, of types that fit, both say which row it is.
 */
export function matchUnique(
  tables: readonly StarterTable[],
  columns: readonly StackedColumn[],
  unique: readonly LoneColumn[],
): readonly StackedColumn[] {
  const lines = unique.flatMap(({ table, column }) => {
    const at = tables.findIndex((t) => t.fullName === table);
    const line = columns.find((c) => c.from[at] === column && c.from.filter((f) => f !== null).length === 1);
    return line ? [{ at, line, type: tables[at]?.columns.find((c) => c.name === column)?.type }] : [];
  });
  // Of two in one table, which is meant is not known.
  const only = lines.filter(({ at }) => lines.filter((l) => l.at === at).length === 1);
  const type = unifiedType(only.map((l) => l.type));
  const [first, ...others] = only.sort((a, b) => a.at - b.at);
  if (!first || others.length === 0 || type === undefined) return columns;
  const from = first.line.from.map((f, i) => f ?? others.find((o) => o.at === i)?.line.from[i] ?? null);
  return columns
    .filter((c) => !others.some((o) => o.line === c))
    .map((c) => (c === first.line ? { ...c, from, type } : c));
}
