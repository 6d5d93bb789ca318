import { nearest } from '../sql/nearest.js';
import { plainIdent } from '../sql/quote.js';
import { unifiedType } from '../sql/types.js';
import { named, select, text, type StarterColumn, type StarterTable } from './text.js';
import { tableText } from '../sql/quote.js';

/** One column of the stacked result: what each table gives for it. */
export interface StackedColumn {
  readonly name: string;
  /** Undefined where the tables' types cannot be unified: the author has to say one. */
  readonly type: string | undefined;
  /** The tables' columns in the order of the tables; null where one has none. */
  readonly from: readonly (string | null)[];
}

export interface StackChoices {
  readonly tables: readonly StarterTable[];
  readonly columns: readonly StackedColumn[];
  /** Equal rows once only. */
  readonly distinct: boolean;
  /** A column that says which table a row is from. */
  readonly origin?: { readonly name: string; readonly values: readonly string[] };
  readonly order?: readonly string[];
}

/** Matches the columns of tables: by equal names, then by names that are near and of a type that fits. */
export function matchColumns(tables: readonly StarterTable[]): StackedColumn[] {
  const free = tables.map((t) => new Map(t.columns.map((c) => [c.name, c])));
  const result: StackedColumn[] = [];
  tables.forEach((table, first) => {
    for (const column of table.columns) {
      if (!free[first]!.has(column.name)) continue;
      const from = tables.map((_, i) =>
        i === first ? column.name : i < first ? null : (partner(column, free[i]!)?.name ?? null),
      );
      from.forEach((name, i) => name !== null && free[i]!.delete(name));
      const types = from.flatMap((name, i) =>
        name === null ? [] : [tables[i]!.columns.find((c) => c.name === name)!.type],
      );
      result.push({ name: column.name, type: unifiedType(types), from });
    }
  });
  return result;
}

function partner(column: StarterColumn, free: ReadonlyMap<string, StarterColumn>): StarterColumn | undefined {
  const same = free.get(column.name);
  if (same) return same;
  const fitting = [...free.values()].filter((c) => unifiedType([c.type, column.type]) !== undefined);
  const near = nearest(
    column.name,
    fitting.map((c) => c.name),
  );
  return fitting.find((c) => c.name === near);
}

/** Tables one below the other, each column cast to the type of the whole. @throws Error where a type is not said */
export function stackTables({ tables, columns, distinct, origin, order = [] }: StackChoices): string {
  const arms = tables.map((table, i) => {
    const items = columns.map((c) => {
      if (c.type === undefined) throw new Error(`the type of ${c.name} is not said`);
      const own = c.from[i];
      if (own === null || own === undefined) return `null::${c.type} as ${plainIdent(c.name)}`;
      const known = table.columns.find((t) => t.name === own)?.type;
      return known === c.type
        ? named(plainIdent(own), c.name)
        : `${plainIdent(own)}::${c.type} as ${plainIdent(c.name)}`;
    });
    if (origin) items.push(`${text(origin.values[i] ?? table.fullName)} as ${plainIdent(origin.name)}`);
    return select(items, [`from ${tableText(table.fullName)}`]);
  });
  const ordered = order.length ? `\norder by ${order.map(plainIdent).join(', ')}` : '';
  return `-- ${tables.map((t) => t.fullName).join(' and ')}, one below the other\n${arms.join(distinct ? '\nunion\n' : '\nunion all\n')}${ordered}\n`;
}
