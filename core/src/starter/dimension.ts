import { plainIdent } from '../sql/quote.js';
import { named, select, text, type StarterColumn } from './text.js';
import { tableText } from '../sql/quote.js';

/** A table in which facts find keys: what a starter makes, and what facts look up. */
export type OnChange = 'version' | 'overwrite' | 'keep';

export interface DimensionChoices {
  /** The table that is written, `core.dim_vessel`. */
  readonly fullName: string;
  readonly source: string;
  readonly key: readonly string[];
  /** Attributes with their types, and what a change of each does to a history. */
  readonly attributes: readonly {
    readonly column: StarterColumn;
    readonly onChange: OnChange;
    readonly previous: boolean;
  }[];
  /** Types of the key's columns, in its order. */
  readonly keyTypes: readonly (string | undefined)[];
  readonly history: boolean;
  readonly missing: 'keep' | 'close' | 'flag' | 'delete';
  readonly method: 'sequence' | 'hash';
}

/** `core.dim_vessel` has the key `vessel_key`. */
export const keyNameOf = (fullName: string): string =>
  `${fullName.slice(fullName.indexOf('.') + 1).replace(/^(dim|fact|fct|d|f)_/, '')}_key`;

/** One line a column of a contract: name, type, options and constraints in columns of text. */
export function contractLines(columns: readonly (readonly [name: string, type: string, rest: string])[]): string[] {
  const width = (i: 0 | 1) => Math.max(...columns.map((c) => c[i].length));
  return columns.map(
    ([name, type, rest]) => `  ${name.padEnd(width(0))} ${rest ? `${type.padEnd(width(1))} ${rest}` : type}`,
  );
}

/** A dimension: a key of its own for each member, or for each version of a member. */
export function dimensionTable(choices: DimensionChoices): string {
  const { fullName, source, key, keyTypes, attributes, history, missing, method } = choices;
  const unique = !history && key.length === 1 ? ' unique' : '';
  const columns: (readonly [string, string, string])[] = [
    [plainIdent(keyNameOf(fullName)), 'bigint', "options (role 'surrogate key') primary key"],
    ...key.map((k, i) => [plainIdent(k), keyTypes[i] ?? 'text', `not null${unique}`] as const),
    ...attributes.flatMap(({ column, onChange, previous }): (readonly [string, string, string])[] => {
      const type = column.type ?? 'text';
      const own = [plainIdent(column.name), type, history ? `options (on_change '${onChange}')` : ''] as const;
      if (!history || !previous) return [own];
      return [
        own,
        [
          plainIdent(`earlier_${column.name}`),
          type,
          `options (on_change 'previous', previous_of ${text(column.name)})`,
        ],
      ];
    }),
    ...(history
      ? ([
          ['valid_from', 'timestamptz', "options (role 'valid from') not null"],
          ['valid_to', 'timestamptz', "options (role 'valid to')"],
          ['is_current', 'boolean', "options (role 'current flag') not null"],
        ] as const)
      : []),
    ...(!history && missing === 'flag'
      ? ([['is_gone', 'boolean', "options (role 'deleted flag') not null"]] as const)
      : []),
  ];
  const options = [
    `load = ${history ? 'history' : 'merge'}`,
    `business_key = ${text(key.join(', '))}`,
    ...(missing === 'keep' ? [] : [`missing_rows = ${missing}`]),
    ...(method === 'hash' ? ['key_method = hash'] : []),
  ];
  const items = [...key, ...attributes.map((a) => a.column.name)].map((name) => named(plainIdent(name), name));
  return `-- ${history ? `Versions of each ${key.join(', ')}` : `One row a ${key.join(', ')}`}, from ${source}
create table ${tableText(fullName)} (
${contractLines(columns).join(',\n')}
) with (${options.join(', ')});

${select(items, [`from ${tableText(source)}`])};
`;
}
