import { familyOf } from '../sql/types.js';
import { plainIdent } from '../sql/quote.js';
import { contractLines } from './dimension.js';
import { named, select, text, type StarterColumn } from './text.js';
import { tableText } from '../sql/quote.js';

/** A dimension as facts see it. */
export interface DimensionTable {
  readonly fullName: string;
  readonly surrogate: string;
  readonly key: readonly string[];
  /** Whether its rows are versions, so that a time decides. */
  readonly history: boolean;
}

export interface FactLookUp {
  readonly dimension: DimensionTable;
  /** The key column that the fact gets. */
  readonly name: string;
  /** Columns of the source, in the order of the dimension's key. */
  readonly by: readonly string[];
  readonly at?: string;
}

export interface FactChoices {
  readonly fullName: string;
  readonly source: string;
  /** The grain: what one row is about. */
  readonly key: readonly string[];
  readonly columns: readonly (StarterColumn & { readonly measure: boolean })[];
  readonly lookUps: readonly FactLookUp[];
  readonly policy: 'merge' | 'rebuild';
}

/** A fact: its grain, the keys of its dimensions, and measures; the query returns business keys only. */
export function factTable({ fullName, source, key, columns, lookUps, policy }: FactChoices): string {
  const kept = columns.filter((c) => !key.includes(c.name));
  const typeOf = (name: string) => columns.find((c) => c.name === name)?.type ?? 'text';
  const lines: (readonly [string, string, string])[] = [
    ...key.map((k) => [plainIdent(k), typeOf(k), 'not null'] as const),
    ...lookUps.map((l) => {
      const at = l.at === undefined ? '' : `, at ${text(l.at)}`;
      const reference = `references ${tableText(l.dimension.fullName)} (${plainIdent(l.dimension.surrogate)})`;
      return [
        plainIdent(l.name),
        'bigint',
        `options (looked_up_by ${text(l.by.join(', '))}${at}) not null ${reference}`,
      ] as const;
    }),
    ...kept.map((c) => [plainIdent(c.name), c.type ?? 'text', c.measure ? "options (role 'measure')" : ''] as const),
  ];
  const needed = [
    ...new Set([
      ...key,
      ...lookUps.flatMap((l) => [...l.by, ...(l.at === undefined ? [] : [l.at])]),
      ...kept.map((c) => c.name),
    ]),
  ];
  return `-- One row a ${key.join(', ')}, from ${source}
create table ${tableText(fullName)} (
${[...contractLines(lines), `  primary key (${key.map(plainIdent).join(', ')})`].join(',\n')}
)${policy === 'merge' ? ` with (load = merge, business_key = ${text(key.join(', '))})` : ''};

${select(
  needed.map((name) => named(plainIdent(name), name)),
  [`from ${tableText(source)}`],
)};
`;
}

/** Look-ups that names suggest: each part of a dimension's key by a column of its name, or one that ends with it. */
export function proposeLookUps(columns: readonly StarterColumn[], dimensions: readonly DimensionTable[]): FactLookUp[] {
  const at = columns.find((c) => ['instant', 'date'].includes(familyOf(c.type ?? '')))?.name;
  return dimensions.flatMap((dimension): FactLookUp[] => {
    const of = (part: string) => columns.filter((c) => c.name === part || c.name.endsWith(`_${part}`));
    if (dimension.key.length !== 1) {
      const by = dimension.key.map((part) => of(part)[0]?.name);
      return by.every((b) => b !== undefined) ? [lookUp(dimension, dimension.surrogate, by as string[], at)] : [];
    }
    const [part] = dimension.key;
    return of(part!).map((c) =>
      lookUp(
        dimension,
        c.name === part ? dimension.surrogate : c.name.slice(0, -part!.length) + dimension.surrogate,
        [c.name],
        at,
      ),
    );
  });
}

function lookUp(dimension: DimensionTable, name: string, by: readonly string[], at: string | undefined): FactLookUp {
  return { dimension, name, by, ...(dimension.history && at !== undefined ? { at } : {}) };
}

/** How many of the source's rows find a member: rows `look_up, rows, found`, the look-up as its place in the list. */
export function shareFoundQuery(source: string, lookUps: readonly FactLookUp[]): string {
  return lookUps
    .map((l, i) => {
      const same = l.by.map((by, n) => `d.${plainIdent(l.dimension.key[n]!)} = q.${plainIdent(by)}`).join(' and ');
      return `select ${i} as look_up, count(*) as rows, count(*) filter (where exists (select from ${tableText(l.dimension.fullName)} as d where ${same})) as found\nfrom ${tableText(source)} as q`;
    })
    .join('\nunion all\n');
}
